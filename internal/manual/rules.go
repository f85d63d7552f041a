package manual

import (
	"fmt"
	"strings"
	"time"

	"stilltide/internal/core/rule"
	"stilltide/internal/core/schema"
)

// sections say of each mapping of the rules file what it is.
var sections = map[string][2]string{
	"file":      {"THE FILE", "The keys at the top of the file."},
	"rule":      {"A RULE", "The keys of a rule, and of defaults."},
	"category":  {"A CATEGORY", "The keys of one of categories."},
	"ready":     {"READY", "The keys of ready: when a file is ready."},
	"batch":     {"BATCH", "The keys of batch: one job for all files that come together."},
	"group":     {"GROUP", "The keys of group: one job for files that belong together."},
	"example":   {"AN EXAMPLE", "The keys of one of examples."},
	"retry":     {"RETRY", "The keys of retry: how attempts are repeated."},
	"queue":     {"A QUEUE", "The keys of one of queues."},
	"channel":   {"A CHANNEL", "The keys of one of channels: where notices go."},
	"mail":      {"MAIL", "The keys of mail in a channel."},
	"notify":    {"NOTIFY", "The keys of notify: who is told of what."},
	"heartbeat": {"HEARTBEAT", "The keys of heartbeat."},
	"fleet":     {"FLEET", "The keys of fleet."},
	"verbs":     {"STEPS", "The verbs of the steps in do: a step has one of them, and its options."},
	"options":   {"OPTIONS OF STEPS", "What stands beside a verb."},
}

// rulesPage is stilltide.yaml(5).
func rulesPage(date time.Time) string {
	p := newPage("stilltide.yaml", 5, date, "the rules of Still Tide")
	p.WriteString(".Sh DESCRIPTION\n")
	p.text(`The rules say which folders are watched, which files are taken, what is done with each, and where it goes
afterwards. The file is YAML 1.2. It is looked for in the current folder and its parents, then in the XDG
configuration folder; the option --config names another. The first rule in it whose conditions fit takes the file.

Where a list is allowed, a single value is, too. Paths start at the folder of the file they are written in.
Times are written as 500ms, 2s, 1h30m, 90d or 2w; sizes as 17, 2KiB or 100MB.`)
	for _, s := range schema.Sections() {
		head := sections[s.Name]
		p.WriteString(".Sh " + head[0] + "\n")
		p.text(head[1])
		p.WriteString(".Bl -tag -width indent\n")
		for _, k := range s.Keys {
			p.key(k, s.Name == "verbs")
		}
		p.WriteString(".El\n")
	}
	p.WriteString(".Sh PLACEHOLDERS\n.Bl -tag -width indent\n")
	for _, word := range rule.Placeholders() {
		p.item("Li " + quoted(word.Shown))
		p.sentences(plainText(word.Means) + ".")
	}
	p.WriteString(".El\n.Sh EXAMPLES\n")
	p.text(`Each CSV file that arrives is plotted, and filed by the day it came:

    version: 1
    rules:
      - name: plots
        watch: arrivals
        match: "*.csv"
        run: ./bin/plot {file} {scratch}/out.png
        processed: "done/{modified:%Y-%m-%d}"
        failed: failed`)
	p.WriteString(".Sh SEE ALSO\n")
	p.reference("stilltide", 1)
	p.reference("stilltide-check", 1)
	p.reference("stilltide-schema", 1)
	return p.String()
}

// key adds one key: what it is for, with which verbs, and what holds without it.
func (p *page) key(k schema.Key, isVerb bool) {
	p.item("Cm " + escaped(k.Name))
	p.sentences(plainText(k.Means) + ".")
	if len(k.With) > 0 {
		p.sentences("With " + strings.Join(k.With, ", ") + ".")
	}
	if !isVerb {
		p.sentences("Default: " + plainText(k.Default) + ".")
	}
}

// plainText is a text of the reference without its Markdown.
func plainText(s string) string { return strings.ReplaceAll(s, "`", "") }

// quoted is one argument of a macro.
func quoted(s string) string { return fmt.Sprintf("%q", escaped(s)) }
