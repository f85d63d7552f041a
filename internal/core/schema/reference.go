package schema

import (
	"fmt"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"sync"

	"stilltide/internal/core/rule"
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
	{"file", reflect.TypeFor[rule.File]()}, {"rule", reflect.TypeFor[rule.Rule]()}, {"category",
		reflect.TypeFor[rule.Category]()},
	{"ready", reflect.TypeFor[rule.Ready]()}, {"batch", reflect.TypeFor[rule.Batch]()}, {"group",
		reflect.TypeFor[rule.Group]()},
	{"example", reflect.TypeFor[rule.Example]()}, {"retry", reflect.TypeFor[rule.Retry]()}, {"queue",
		reflect.TypeFor[rule.Queue]()},
	{"channel", reflect.TypeFor[rule.Channel]()}, {"mail", reflect.TypeFor[rule.Mail]()}, {"notify",
		reflect.TypeFor[rule.Notify]()},
	{"heartbeat", reflect.TypeFor[rule.Heartbeat]()}, {"fleet", reflect.TypeFor[rule.Fleet]()},
}

// Sections lists the mappings of the notation with their keys, and the verbs and options of
// steps as sections of their own. They are what the decoder reads, so they cannot say anything
// else.
func Sections() (list []Section) {
	for _, m := range mappings {
		list = append(list, Section{m.name, keysOf(m.of, reflect.VisibleFields(m.of))})
	}
	isVerb := map[string]bool{}
	for _, v := range rule.Verbs {
		isVerb[v.Name] = true
	}
	verbKeys, options := Section{Name: "verbs"}, Section{Name: "options"}
	for _, k := range keysOf(reflect.TypeFor[rule.Step](), stepFields()) {
		if isVerb[k.Name] {
			verbKeys.Keys = append(verbKeys.Keys, k)
			continue
		}
		k.With = rule.VerbsWith(k.Name)
		options.Keys = append(options.Keys, k)
	}
	return append(list, verbKeys, options)
}

// leftOut is how a key's documentation tells what holds without it.
var leftOut = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`; ([^;]+) if left out$`) })

func keysOf(t reflect.Type, fields []reflect.StructField) (keys []Key) {
	for _, f := range fields {
		name := f.Tag.Get("key")
		if name == "" {
			continue
		}
		k := Key{Name: name, Means: f.Tag.Get("doc"), Default: f.Tag.Get("default")}
		if m := leftOut().FindStringSubmatch(k.Means); m != nil {
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
	"Notify.to", "Heartbeat.to", "Heartbeat.every", "Mail.server", "Mail.from", "Mail.to", "Example.file",
	"Fleet.server", "Fleet.key_file"}

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
	add(reflect.TypeFor[rule.Step]())
	for _, v := range rule.Verbs {
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
	for _, v := range rule.Verbs {
		var options []string
		for _, key := range v.Keys() {
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

func placeholderTable() string {
	var b strings.Builder
	b.WriteString("| placeholder | stands for |\n|---|---|\n")
	for _, p := range rule.Placeholders() {
		fmt.Fprintf(&b, "| `%s` | %s |\n", p.Shown, cellText(p.Means))
	}
	return b.String()
}
