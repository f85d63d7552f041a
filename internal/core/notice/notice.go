// Package notice collects what people should be told, so that a thousand events
// make one message.
//
// The first event for a channel opens a message. It is due once the channel's
// digest time has passed, with everything that came in between. A message keeps
// a bounded number of events of each kind, and counts the rest.
//
// The same failure again and again is told less and less often: at once, then after a
// minute, two, four, at last once an hour, each time with how many there were.
package notice

import (
	"cmp"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"stilltide/internal/core/fill"
	"stilltide/internal/core/history"
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

	FileNow string    `json:"file_now,omitempty"` // where the file is now
	Printed []string  `json:"printed,omitempty"`  // the last lines that its commands printed
	Next    string    `json:"next,omitempty"`     // the command to go on with
	Said    string    `json:"said,omitempty"`     // the user's own words, which stand for all others
	More    int       `json:"more,omitempty"`     // failed: how many others failed alike
	Since   time.Time `json:"since,omitzero"`     // and when the first of them did
	Output  string    `json:"-"`                  // the file with what was printed
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
	Machine string       `json:"machine,omitempty"`    // its name
	Rules   string       `json:"rules_file,omitempty"` // the rules that it came from
}

// maxOfAKind bounds the events of one kind that a message holds.
const maxOfAKind = 50

// maxLines bounds the lines of a message's text.
const maxLines = 20

// Gatherer makes messages of events. The zero value is ready; it has no clock
// and no goroutine.
type Gatherer struct {
	open    map[string]*open    // by channel
	repeats map[repeated]*again // failures that were told
}

// repeated is what failures have in common that are told as one.
type repeated struct{ channel, rule, reason string }

// again is a failure that comes again and again.
type again struct {
	wait   time.Duration // until it is told the next time
	digest time.Duration // of the channel
	told   time.Time     // when the message that tells it is due: until then others join it
	until  time.Time     // nothing more is told of it before that
	count  int           // that came since it was told
	first  time.Time
	last   Event
}

// tellIn has it be told in a message that is due at a time, and not again for a while.
func (r *again) tellIn(due time.Time) { r.told, r.until, r.count = due, due.Add(r.wait), 0 }

// How often the same failure is told: after a minute, and twice as long each time, up to an hour.
const (
	firstWait = time.Minute
	maxWait   = time.Hour
)

type open struct {
	due time.Time
	msg Message
}

// Add gathers an event for a channel, which sends at the earliest `wait` after
// the first event.
func (g *Gatherer) Add(channel string, wait time.Duration, e Event) {
	if e.Kind == Failed && g.holds(channel, wait, e) {
		return
	}
	g.add(channel, wait, e)
}

// holds reports whether an event is a failure that was told not long ago, and keeps it.
func (g *Gatherer) holds(channel string, wait time.Duration, e Event) bool {
	key := repeated{channel, e.Rule, history.Alike(e.File, e.Text)}
	r := g.repeats[key]
	switch {
	case r == nil || r.count == 0 && e.At.Sub(r.until) > r.wait: // it had stopped
		if g.repeats == nil {
			g.repeats = map[repeated]*again{}
		}
		r = &again{wait: firstWait, digest: wait}
		g.repeats[key] = r
		r.tellIn(g.dueAt(channel, wait, e.At))
		return false
	case g.open[channel] != nil && !e.At.After(r.told): // it goes into the same message
		return false
	case r.count == 0:
		r.first = e.At
	}
	r.count, r.last = r.count+1, e
	return true
}

// dueAt is when a message is due that an event goes into.
func (g *Gatherer) dueAt(channel string, wait time.Duration, at time.Time) time.Time {
	if o := g.open[channel]; o != nil {
		return o.due
	}
	return at.Add(wait)
}

func (g *Gatherer) add(channel string, wait time.Duration, e Event) {
	if g.open == nil {
		g.open = map[string]*open{}
	}
	o := g.open[channel]
	if o == nil {
		o = &open{due: e.At.Add(wait), msg: Message{Channel: channel, Counts: map[Kind]int{}, First: e.At}}
		g.open[channel] = o
	}
	o.msg.Last = e.At
	o.msg.Counts[e.Kind] += 1 + e.More
	if o.msg.Counts[e.Kind] <= maxOfAKind || e.More > 0 {
		o.msg.Events = append(o.msg.Events, e)
	}
}

// release adds what has come again of failures that may be told by now, or of all.
func (g *Gatherer) release(now time.Time, all bool) {
	keys := slices.SortedFunc(maps.Keys(g.repeats), func(a, b repeated) int {
		return cmp.Or(strings.Compare(a.channel, b.channel), strings.Compare(a.rule, b.rule),
			strings.Compare(a.reason, b.reason))
	})
	for _, key := range keys {
		r := g.repeats[key]
		switch {
		case !all && r.until.After(now):
		case r.count > 0:
			e := r.last
			e.More, e.Since, e.At = r.count-1, r.first, now
			due := g.dueAt(key.channel, r.digest, now)
			g.add(key.channel, r.digest, e)
			r.wait = min(2*r.wait, maxWait)
			r.tellIn(due)
		case now.Sub(r.until) > r.wait:
			delete(g.repeats, key)
		}
	}
}

// Due returns the messages that are due by now.
func (g *Gatherer) Due(now time.Time) []Message {
	g.release(now, false)
	return g.take(func(o *open) bool { return !o.due.After(now) })
}

// All returns all messages, due or not.
func (g *Gatherer) All(now time.Time) []Message {
	g.release(now, true)
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
	sooner := func(t time.Time) {
		if !ok || t.Before(at) {
			at, ok = t, true
		}
	}
	for _, o := range g.open {
		sooner(o.due)
	}
	for _, r := range g.repeats {
		if r.count > 0 {
			sooner(r.until)
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
	if len(m.Events) == 1 && len(m.Counts) == 1 && m.Counts[m.Events[0].Kind] == 1+m.Events[0].More {
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
	case e.Said != "":
		return firstLine(e.Said)
	case e.More > 0:
		return fmt.Sprintf("%s: %s failed alike", e.Rule, plan.Plural(1+e.More, "file"))
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
	return plan.Number(n) + " " + words[k].many
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

// maxDetailed is of how many failures a message tells all.
const maxDetailed = 3

// text lists the events: the pressing ones first, then how many are not listed.
func text(m Message) []string {
	var lines []string
	listed, detailed := 0, 0
	for _, e := range m.Events[:min(len(m.Events), maxLines)] {
		lines = append(lines, line(e))
		listed += 1 + e.More
		if more := details(e); len(more) > 0 && e.Said == "" && detailed < maxDetailed {
			lines = append(lines, more...)
			detailed++
		}
	}
	all := 0
	for _, n := range m.Counts {
		all += n
	}
	if more := all - listed; more > 0 {
		where := "stilltide jobs lists them"
		if m.Counts[Unmatched] == all {
			where = "stilltide preview lists them"
		}
		lines = append(lines, fmt.Sprintf("and %s more; %s", plan.Number(more), where))
	}
	if m.Rules != "" && m.Machine != "" {
		lines = append(lines, "", fmt.Sprintf("Rules: %s on %s", plan.Display(m.Rules), m.Machine))
	}
	return lines
}

// details are what people want to know next of a failure.
func details(e Event) (lines []string) {
	if e.Kind != Failed {
		return nil
	}
	switch {
	case e.FileNow == "":
		lines = append(lines, "  the file is no longer there")
	case e.FileNow == e.File:
		lines = append(lines, "  it stays where it is")
	default:
		lines = append(lines, "  it is in "+plan.Display(filepath.Dir(e.FileNow))+" now, with a note beside it")
	}
	for i, text := range e.Printed {
		head := "  printed last: "
		if i > 0 {
			head = "                "
		}
		lines = append(lines, head+text)
	}
	if e.Next != "" {
		lines = append(lines, "  to send it round again: "+e.Next)
	}
	return lines
}

// line is one event in a message's list.
func line(e Event) string {
	if e.Said != "" {
		return strings.ReplaceAll(strings.TrimSpace(e.Said), "\n", " ")
	}
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
	if e.More > 0 {
		head += fmt.Sprintf("; %d more failed alike since %s", e.More, plan.Clock(e.Since, e.At))
	}
	return head
}

func firstLine(s string) string {
	first, _, _ := strings.Cut(strings.TrimSpace(s), "\n")
	return first
}
