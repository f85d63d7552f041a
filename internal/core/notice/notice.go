// Package notice collects what people should be told, so that a thousand events
// make one message.
//
// The first event for a channel opens a message. It is due once the channel's
// digest time has passed, with everything that came in between. A message keeps
// a bounded number of events of each kind, and counts the rest.
package notice

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"stilltide/internal/core/fill"
	"stilltide/internal/core/plan"
)

// Kind is what an event is about.
type Kind string

// The kinds, the most pressing first.
const (
	Blocked   Kind = "blocked"   // an ability was lost
	Failed    Kind = "failed"    // a job failed for good
	Overdue   Kind = "overdue"   // a file did not become ready in time
	Unmatched Kind = "unmatched" // no rule took a file
	Recovered Kind = "recovered" // an ability is back
	CaughtUp  Kind = "caught_up" // a rule has nothing left to do
	Told      Kind = "told"      // a rule's own tell step
	Processed Kind = "processed" // a job succeeded
	Heartbeat Kind = "heartbeat" // all is well
	Trial     Kind = "trial"     // somebody tries the channel
)

// kinds in their order in a message.
var kinds = []Kind{Blocked, Failed, Overdue, Unmatched, Recovered, CaughtUp, Told, Processed, Heartbeat, Trial}

// Event is one thing that is told.
type Event struct {
	Kind Kind      `json:"kind"`
	At   time.Time `json:"at"`
	Rule string    `json:"rule,omitempty"`
	File string    `json:"file,omitempty"` // whole path
	Job  int64     `json:"job,omitempty"`
	Text string    `json:"text,omitempty"` // the reason, or a whole sentence where there is no file
	Jobs int       `json:"jobs,omitempty"` // caught_up: how many jobs the batch had
}

// Message is what a channel sends at once.
type Message struct {
	Channel string       `json:"channel"`
	Title   string       `json:"title"`
	Text    string       `json:"text"` // lines
	Counts  map[Kind]int `json:"counts"`
	Events  []Event      `json:"events"` // at most maxOfAKind of each kind
	First   time.Time    `json:"first"`
	Last    time.Time    `json:"last"`
}

// maxOfAKind bounds the events of one kind that a message holds.
const maxOfAKind = 50

// maxLines bounds the lines of a message's text.
const maxLines = 20

// Gatherer makes messages of events. The zero value is ready; it has no clock
// and no goroutine.
type Gatherer struct {
	open map[string]*open // by channel
}

type open struct {
	due time.Time
	msg Message
}

// Add gathers an event for a channel, which sends at the earliest `wait` after
// the first event.
func (g *Gatherer) Add(channel string, wait time.Duration, e Event) {
	if g.open == nil {
		g.open = map[string]*open{}
	}
	o := g.open[channel]
	if o == nil {
		o = &open{due: e.At.Add(wait), msg: Message{Channel: channel, Counts: map[Kind]int{}, First: e.At}}
		g.open[channel] = o
	}
	o.msg.Last = e.At
	o.msg.Counts[e.Kind]++
	if o.msg.Counts[e.Kind] <= maxOfAKind {
		o.msg.Events = append(o.msg.Events, e)
	}
}

// Due returns the messages that are due by now.
func (g *Gatherer) Due(now time.Time) []Message {
	return g.take(func(o *open) bool { return !o.due.After(now) })
}

// All returns all messages, due or not.
func (g *Gatherer) All() []Message {
	return g.take(func(*open) bool { return true })
}

func (g *Gatherer) take(which func(*open) bool) []Message {
	var list []Message
	for channel, o := range g.open {
		if which(o) {
			delete(g.open, channel)
			list = append(list, Compose(o.msg))
		}
	}
	slices.SortFunc(list, func(a, b Message) int { return strings.Compare(a.Channel, b.Channel) })
	return list
}

// Next is when the next message is due.
func (g *Gatherer) Next() (at time.Time, ok bool) {
	for _, o := range g.open {
		if !ok || o.due.Before(at) {
			at, ok = o.due, true
		}
	}
	return at, ok
}

// Compose writes the title and the text of a message.
func Compose(m Message) Message {
	slices.SortStableFunc(m.Events, func(a, b Event) int {
		return slices.Index(kinds, a.Kind) - slices.Index(kinds,
			b.Kind)
	})
	m.Title = fill.PlainLine(title(m))
	lines := text(m)
	for i := range lines {
		lines[i] = fill.PlainLine(lines[i])
	}
	m.Text = strings.Join(lines, "\n")
	return m
}

func title(m Message) string {
	if len(m.Events) == 1 && len(m.Counts) == 1 && m.Counts[m.Events[0].Kind] == 1 {
		return single(m.Events[0])
	}
	var parts []string
	for _, k := range kinds {
		if n := m.Counts[k]; n > 0 {
			parts = append(parts, counted(k, n))
		}
	}
	text := strings.Join(parts, ", ")
	if rules := rulesOf(m.Events); len(rules) == 1 && rules[0] != "" {
		text = rules[0] + ": " + text
	}
	return text
}

// single is the title of a message with one event.
func single(e Event) string {
	name := plan.Display(filepath.Base(e.File))
	switch {
	case e.Kind == Heartbeat:
		return "Still Tide is alive"
	case e.Kind == Trial:
		return "A notice from Still Tide, to try this channel"
	case e.Kind == Unmatched:
		return "no rule took " + name
	case e.Kind == CaughtUp:
		return fmt.Sprintf("%s: %s done", e.Rule, plan.Plural(e.Jobs, "file"))
	case e.Kind == Told:
		return e.Rule + ": " + firstLine(e.Text)
	case e.File != "":
		return fmt.Sprintf("%s: %s %s", e.Rule, name, words[e.Kind].state)
	case e.Rule != "":
		return fmt.Sprintf("%s %s", e.Rule, words[e.Kind].state)
	}
	return words[e.Kind].whole
}

// words are how a kind is said: of one file or rule, of the whole program,
// and after a number.
var words = map[Kind]struct{ state, whole, one, many string }{
	Blocked:   {"is blocked", "Still Tide needs a person", "blocked", "blocked"},
	Failed:    {"failed", "", "failed", "failed"},
	Overdue:   {"is overdue", "", "overdue", "overdue"},
	Unmatched: {"", "", "file no rule took", "files no rule took"},
	Recovered: {"has recovered", "Still Tide has recovered", "recovered", "recovered"},
	CaughtUp:  {"", "", "rule caught up", "rules caught up"},
	Told:      {"", "", "note", "notes"},
	Processed: {"was processed", "", "processed", "processed"},
	Heartbeat: {"", "", "heartbeat", "heartbeats"},
	Trial:     {"", "", "trial", "trials"},
}

func counted(k Kind, n int) string {
	if n == 1 {
		return "1 " + words[k].one
	}
	return humanize.Comma(int64(n)) + " " + words[k].many
}

func rulesOf(events []Event) []string {
	var rules []string
	for _, e := range events {
		if !slices.Contains(rules, e.Rule) {
			rules = append(rules, e.Rule)
		}
	}
	return rules
}

// text lists the events: the pressing ones first, then how many are not listed.
func text(m Message) []string {
	var lines []string
	for _, e := range m.Events[:min(len(m.Events), maxLines)] {
		lines = append(lines, line(e))
	}
	all := 0
	for _, n := range m.Counts {
		all += n
	}
	if more := all - len(lines); more > 0 {
		lines = append(lines, fmt.Sprintf("and %s more; stilltide jobs lists them", humanize.Comma(int64(more))))
	}
	return lines
}

// line is one event in a message's list.
func line(e Event) string {
	text := strings.ReplaceAll(strings.TrimSpace(e.Text), "\n", " ")
	switch {
	case e.File == "" && e.Rule == "":
		return text
	case e.File == "":
		return e.Rule + ": " + text
	}
	head := plan.Display(e.File)
	if e.Rule != "" {
		head = e.Rule + ": " + head
	}
	if state := words[e.Kind].state; state != "" {
		head += " " + state
	}
	if e.Kind == Unmatched {
		head += ": no rule took it"
	}
	if e.Job > 0 {
		head += fmt.Sprintf(" (job %d)", e.Job)
	}
	if text != "" {
		head += ": " + text
	}
	return head
}

func firstLine(s string) string {
	first, _, _ := strings.Cut(strings.TrimSpace(s), "\n")
	return first
}
