package rule

import (
	"fmt"
	"reflect"
	"strings"

	"stilltide/internal/core/expr"
)

// Reference returns the tables of the reference, in Markdown, by the name of
// their section. They are made from what the decoder reads, so they cannot
// say anything else.
func Reference() map[string]string {
	return map[string]string{
		"file":         keyTable(reflect.TypeFor[File]()),
		"rule":         keyTable(reflect.TypeFor[Rule]()),
		"ready":        keyTable(reflect.TypeFor[Ready]()),
		"batch":        keyTable(reflect.TypeFor[Batch]()),
		"group":        keyTable(reflect.TypeFor[Group]()),
		"retry":        keyTable(reflect.TypeFor[Retry]()),
		"queue":        keyTable(reflect.TypeFor[Queue]()),
		"channel":      keyTable(reflect.TypeFor[Channel]()),
		"category":     keyTable(reflect.TypeFor[Category]()),
		"mail":         keyTable(reflect.TypeFor[Mail]()),
		"notify":       keyTable(reflect.TypeFor[Notify]()),
		"heartbeat":    keyTable(reflect.TypeFor[Heartbeat]()),
		"example":      keyTable(reflect.TypeFor[Example]()),
		"verbs":        verbTable(),
		"options":      optionTable(),
		"placeholders": placeholderTable(),
	}
}

// keyTable lists the keys of a mapping.
func keyTable(t reflect.Type) string {
	var b strings.Builder
	b.WriteString("| key | value |\n|---|---|\n")
	for _, f := range reflect.VisibleFields(t) {
		if key := f.Tag.Get("key"); key != "" {
			fmt.Fprintf(&b, "| `%s` | %s |\n", key, cellText(f.Tag.Get("doc")))
		}
	}
	return b.String()
}

// cellText keeps a text inside its table cell.
func cellText(s string) string { return strings.ReplaceAll(s, "|", `\|`) }

// stepFields are the fields of all keys of steps: those that verbs share, then each verb's own.
func stepFields() (fields []reflect.StructField) {
	add := func(t reflect.Type) {
		for _, f := range reflect.VisibleFields(t) {
			if f.Tag.Get("key") != "" {
				fields = append(fields, f)
			}
		}
	}
	add(reflect.TypeFor[Step]())
	for _, v := range verbs {
		add(reflect.TypeOf(v.New()).Elem())
	}
	return fields
}

func verbTable() string {
	docs := map[string]string{}
	for _, f := range stepFields() {
		docs[f.Tag.Get("key")] = f.Tag.Get("doc")
	}
	var b strings.Builder
	b.WriteString("| verb | does | options |\n|---|---|---|\n")
	for _, v := range verbs {
		var options []string
		for _, key := range v.keys() {
			options = append(options, "`"+key+"`")
		}
		fmt.Fprintf(&b, "| `%s` | %s | %s |\n", v.Name, cellText(docs[v.Name]), strings.Join(options, " "))
	}
	return b.String()
}

func optionTable() string {
	isVerb := map[string]bool{}
	for _, v := range verbs {
		isVerb[v.Name] = true
	}
	var b strings.Builder
	b.WriteString("| option | with | value |\n|---|---|---|\n")
	for _, f := range stepFields() {
		if key := f.Tag.Get("key"); !isVerb[key] {
			with := "all"
			if verbs := verbsWith(key); len(verbs) > 0 {
				with = strings.Join(verbs, ", ")
			}
			fmt.Fprintf(&b, "| `%s` | %s | %s |\n", key, with, cellText(f.Tag.Get("doc")))
		}
	}
	return b.String()
}

func placeholderTable() string {
	var b strings.Builder
	b.WriteString("| placeholder | stands for |\n|---|---|\n")
	for _, p := range placeholders {
		fmt.Fprintf(&b, "| `%s` | %s |\n", p.shown, cellText(p.doc))
	}
	return b.String()
}

// placeholders are the words that every rule has, and those that only batches
// and groups have.
var placeholders = []struct{ word, shown, doc string }{
	{"file", "{file}", "the whole path"},
	{"name", "{name}", "the name"},
	{"stem", "{stem}", "the name without its last ending"},
	{"ext", "{ext}", "the last ending, without its dot"},
	{"folder", "{folder}", "the folder that it is in"},
	{"watch", "{watch}", "the watched folder that it was found in"},
	{"rel", "{rel}", "the path below the watched folder"},
	{"rel_folder", "{rel_folder}", "the folder of that path; `.` for the watched folder itself"},
	{"size", "{size}", "bytes"},
	{"media_type", "{media_type}", "media type by content, then by name: `image/png`"},
	{"category", "{category}", "what kind of file it is: `pictures`, `documents` and so on (`category`)"},
	{"main_type", "{main_type}", "its part before the slash: `image`"},
	{"event", "{event}", "`added`, `changed` or `removed`"},
	{"hash", "{hash}", "SHA-256 of the content, hexadecimal"},
	{"rule", "{rule}", "the rule's name"},
	{"job", "{job}", "the job's number"},
	{"attempt", "{attempt}", "1 for the first"},
	{"scratch", "{scratch}", "a folder of this attempt's own, removed afterwards"},
	{"placed", "{placed}", "where the last step that placed something put it; empty before the first"},
	{"modified", "{modified:%Y-%m-%d}", "when the content was last changed (strftime)"},
	{"now", "{now:%H%M}", "the time of filling it"},
	{"shot", "{shot:%Y}", "when a picture was taken, by what it says itself; else when it was modified"},
	{"", "{files}", "batch or group: each of its files, a word each"},
	{"", "{list}, {list0}", "batch or group: a file with their paths, one a line or NUL-separated"},
	{"", "{WORD}", "what `match` or `watch` captured, a `let` word, or what a step saved; one that is a date " +
		"takes a format, too: `{day:%Y}`"},
	{"", "{WORD|lower}", "changed: `lower`, `upper`, `slug` (letters and digits with dashes between), `pad:4` " +
		"(zeros before it)"},
	{"", "{{", "a brace"},
}

// builtIn are the placeholders that every rule has.
var builtIn = func() (words []string) {
	for _, p := range placeholders {
		if p.word != "" {
			words = append(words, p.word)
		}
	}
	return words
}()

// ExpressionWords lists the words that expressions have besides captures and `let` words.
func ExpressionWords() []string { return expr.New(nil).ForSteps().Names() }
