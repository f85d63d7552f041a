// Package draft helps to write a rule: it proposes patterns from the names that lie in a
// folder, says as YAML what was chosen, and puts that into a rules file without touching
// anything else in it.
package draft

import (
	"strings"

	"github.com/goccy/go-yaml"
)

// Rule is a rule that is being written. What is "" is left out.
type Rule struct {
	Name, Watch string
	Match       []string
	Run         string
	Steps       []string // each a step as YAML, such as copy: backup
	Processed   string
	Failed      string
}

// Entry is the rule as an entry of rules:, its dash behind so many spaces.
func (r Rule) Entry(indent int) string {
	var b strings.Builder
	space := strings.Repeat(" ", indent)
	first := true
	add := func(line string) {
		if first {
			b.WriteString(space + "- " + line + "\n")
			first = false
			return
		}
		b.WriteString(space + "  " + line + "\n")
	}
	value := func(key, text string) {
		if text != "" {
			add(key + ": " + quoted(text))
		}
	}
	value("name", r.Name)
	value("watch", r.Watch)
	switch len(r.Match) {
	case 0:
	case 1:
		value("match", r.Match[0])
	default:
		list := make([]string, len(r.Match))
		for i, m := range r.Match {
			list[i] = quoted(m)
		}
		add("match: [" + strings.Join(list, ", ") + "]")
	}
	switch {
	case len(r.Steps) > 0:
		add("do:")
		if r.Run != "" {
			add("  - run: " + quoted(r.Run))
		}
		for _, s := range r.Steps {
			add("  - " + strings.ReplaceAll(strings.TrimSpace(s), "\n", "\n"+space+"      "))
		}
	default:
		value("run", r.Run)
	}
	value("processed", r.Processed)
	value("failed", r.Failed)
	return b.String()
}

// quoted writes a text so that YAML reads it back as it is.
func quoted(text string) string {
	plain, err := yaml.Marshal(text)
	lines := strings.Contains(strings.TrimSpace(string(plain)), "\n")
	asked := strings.HasPrefix(text, "?") // it may begin a key, which is written as it is all the same
	if err != nil || lines || asked || strings.ContainsAny(text, "{}[]*&!|>%@`#,:") {
		return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`, "\t", `\t`).Replace(text) + `"`
	}
	return strings.TrimSpace(string(plain))
}

// NameFor proposes a name that no rule has: that of the folder, or with a number.
func NameFor(folder string, taken func(string) bool) string {
	name := strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z', r >= '0' && r <= '9', r == '-':
			return r
		case r >= 'A' && r <= 'Z':
			return r + 'a' - 'A'
		}
		return '-'
	}, folder)
	name = strings.Trim(strings.Join(strings.FieldsFunc(name, func(r rune) bool { return r == '-' }), "-"), "-")
	if name == "" {
		name = "new"
	}
	for n, base := 2, name; taken(name); n++ {
		name = base + "-" + string(rune('0'+n%10))
		if n > 9 {
			name = base + "-more"
			break
		}
	}
	return name
}

// Step is a step of a verb, as it stands under do.
func Step(verb, value string) string { return verb + ": " + quoted(value) }
