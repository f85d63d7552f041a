package rule

import (
	"fmt"
	"reflect"
	"regexp"
	"slices"
	"strings"

	"stilltide/internal/core/expr"
)

// Section is a mapping of the notation, with its keys.
type Section struct {
	Name string // as docs/rules.md has it
	Keys []Key
}

// Key is one key, what it is for, and what holds if it is left out.
type Key struct {
	Name    string
	Means   string
	Default string   // "required" if it must be there, "none" if nothing takes its place
	With    []string // of an option of steps: the verbs that have it, none for all
}

// mappings are the mappings of the notation but for steps, by the names of their sections.
var mappings = []struct {
	name string
	of   reflect.Type
}{
	{"file", reflect.TypeFor[File]()}, {"rule", reflect.TypeFor[Rule]()}, {"category", reflect.TypeFor[Category]()},
	{"ready", reflect.TypeFor[Ready]()}, {"batch", reflect.TypeFor[Batch]()}, {"group", reflect.TypeFor[Group]()},
	{"example", reflect.TypeFor[Example]()}, {"retry", reflect.TypeFor[Retry]()}, {"queue", reflect.TypeFor[Queue]()},
	{"channel", reflect.TypeFor[Channel]()}, {"mail", reflect.TypeFor[Mail]()}, {"notify", reflect.TypeFor[Notify]()},
	{"heartbeat", reflect.TypeFor[Heartbeat]()},
}

// Sections lists the mappings of the notation with their keys, and the verbs and options of
// steps as sections of their own. They are what the decoder reads, so they cannot say anything
// else.
func Sections() (list []Section) {
	for _, m := range mappings {
		list = append(list, Section{m.name, keysOf(m.of, reflect.VisibleFields(m.of))})
	}
	isVerb := map[string]bool{}
	for _, v := range verbs {
		isVerb[v.Name] = true
	}
	verbKeys, options := Section{Name: "verbs"}, Section{Name: "options"}
	for _, k := range keysOf(reflect.TypeFor[Step](), stepFields()) {
		if isVerb[k.Name] {
			verbKeys.Keys = append(verbKeys.Keys, k)
			continue
		}
		k.With = verbsWith(k.Name)
		options.Keys = append(options.Keys, k)
	}
	return append(list, verbKeys, options)
}

// leftOut is how a key's documentation tells what holds without it.
var leftOut = regexp.MustCompile(`; ([^;]+) if left out$`)

func keysOf(t reflect.Type, fields []reflect.StructField) (keys []Key) {
	for _, f := range fields {
		name := f.Tag.Get("key")
		if name == "" {
			continue
		}
		k := Key{Name: name, Means: f.Tag.Get("doc"), Default: f.Tag.Get("default")}
		if m := leftOut.FindStringSubmatch(k.Means); m != nil {
			k.Means, k.Default = strings.TrimSuffix(k.Means, m[0]), strings.TrimSuffix(m[1], ",")
		}
		full := t.Name() + "." + name
		if value, ok := defaultOf[full]; ok {
			k.Default = fmt.Sprint(value)
		}
		if list, ok := defaultOf[full].([]string); ok {
			k.Default = strings.Join(list, ", ")
		}
		if slices.Contains(neededKeys, full) {
			k.Default = "required"
		}
		if k.Default == "" {
			k.Default = "none"
		}
		keys = append(keys, k)
	}
	return keys
}

// neededKeys must be there.
var neededKeys = []string{"File.version", "File.rules", "Rule.name", "Rule.watch", "Group.by", "Group.need",
	"Notify.on",
	"Notify.to", "Heartbeat.to", "Heartbeat.every", "Mail.server", "Mail.from", "Mail.to", "Example.file"}

// Reference returns the tables of the reference, in Markdown, by the name of
// their section.
func Reference() map[string]string {
	tables := map[string]string{"verbs": verbTable(), "placeholders": placeholderTable()}
	for _, s := range Sections() {
		switch s.Name {
		case "verbs":
		case "options":
			tables[s.Name] = optionTable(s.Keys)
		default:
			tables[s.Name] = keyTable(s.Keys)
		}
	}
	return tables
}

// keyTable lists the keys of a mapping.
func keyTable(keys []Key) string {
	var b strings.Builder
	b.WriteString("| key | value | default |\n|---|---|---|\n")
	for _, k := range keys {
		fmt.Fprintf(&b, "| `%s` | %s | %s |\n", k.Name, cellText(k.Means), cellText(k.Default))
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

func optionTable(keys []Key) string {
	var b strings.Builder
	b.WriteString("| option | with | value | default |\n|---|---|---|---|\n")
	for _, k := range keys {
		with := "all"
		if len(k.With) > 0 {
			with = strings.Join(k.With, ", ")
		}
		fmt.Fprintf(&b, "| `%s` | %s | %s | %s |\n", k.Name, with, cellText(k.Means), cellText(k.Default))
	}
	return b.String()
}

// Placeholder is a word that is filled in.
type Placeholder struct{ Shown, Means string }

// Placeholders lists the placeholders of all rules.
func Placeholders() (list []Placeholder) {
	for _, p := range placeholders {
		list = append(list, Placeholder{p.shown, p.doc})
	}
	return list
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
	{"event", "{event}", "`added`, `changed`, `removed` or `renamed`"},
	{"old_file", "{old_file}", "the whole path that it had before it was renamed; empty otherwise"},
	{"hash", "{hash}", "SHA-256 of the content, hexadecimal"},
	{"rule", "{rule}", "the rule's name"},
	{"job", "{job}", "the job's number"},
	{"attempt", "{attempt}", "1 for the first"},
	{"scratch", "{scratch}", "a folder of this attempt's own, removed afterwards"},
	{"placed", "{placed}", "where the last step that placed something put it; empty before the first"},
	{"modified", "{modified:%Y-%m-%d}", "when the content was last changed (strftime)"},
	{"now", "{now:%H%M}", "the time of filling it"},
	{"shot", "{shot:%Y}",
		"when a picture or film was taken, by what it says itself (JPEG, HEIC, AVIF, PNG, WebP, TIFF, " +
			"most raw formats, MP4, MOV); else when it was modified"},
	{"created", "{created:%Y}", "when the file was made, where the file system knows it"},
	{"", "{files}", "batch or group: each of its files, a word each"},
	{"", "{list}, {list0}", "batch or group: a file with their paths, one a line or NUL-separated"},
	{"", "{WORD}", "what `match` or `watch` captured, a `let` word, or what a step saved; one that is a date " +
		"takes a format, too: `{day:%Y}`"},
	{"", "{WORD|lower}", "changed: `lower`, `upper`, `title` (each word begins with a capital), `slug` (letters and " +
		"digits with dashes between), `pad:4` (zeros before it), `json` (to stand inside a JSON string), `folders` " +
		"(in a destination: a `/` in it makes folders)"},
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
