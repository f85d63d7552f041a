// Package telling decides who is told of what: of jobs, of rules and folders that are blocked and
// that go on again, of the ledger, and of the watcher itself. Each trouble is told once, and once
// that it is over.
package telling

import (
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"time"

	"stilltide/internal/core/fill"
	"stilltide/internal/core/job"
	"stilltide/internal/core/notice"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/core/turn"
	"stilltide/internal/notify"
	"stilltide/internal/watchfs"
)

// Teller remembers what was told. It belongs to one goroutine; the hub that it tells never makes
// it wait. Use New.
type Teller struct {
	hub      *notify.Hub
	rules    func() *plan.Set // those in use
	state    string
	ledger   string          // what was last said of the ledger's trouble
	folders  map[string]bool // folders of which trouble was said
	waiting  map[string]bool // rules whose jobs wait for room or for a disk
	rejected string          // why the rules that were read last are not in use
	beat     time.Time       // when the next heartbeat is due
	beats    int             // heartbeats so far
}

// New has told nothing yet. rules gives those in use; state is the state folder.
func New(hub *notify.Hub, rules func() *plan.Set, state string) *Teller {
	return &Teller{hub: hub, rules: rules, state: state, waiting: map[string]bool{}, folders: map[string]bool{}}
}

// Turn tells what the flow left behind.
func (t *Teller) Turn(e *turn.Effects, now time.Time) {
	for _, o := range e.Outcomes {
		t.outcome(o, now)
	}
	for _, u := range e.Overdue {
		t.rule(u.Rule, rule.OnOverdue, notice.Event{Kind: notice.Overdue, At: now, Rule: u.Rule, File: u.File,
			Text: u.Why})
	}
	for _, b := range e.CaughtUp {
		t.rule(b.Rule, rule.OnCaughtUp, caughtUpEvent(b, now))
	}
	for _, n := range e.Notices {
		t.hub.Tell([]string{n.Channel}, notice.Event{Kind: notice.Told, At: now, Rule: n.Rule, File: n.File,
			Job: n.Job, Text: n.Text})
	}
	for _, path := range e.Unmatched {
		own := t.rules().File.Notify
		t.hub.Tell(own.Channels(rule.OnUnmatched), inOwnWords(own, notice.Event{Kind: notice.Unmatched, At: now,
			File: path}))
	}
	for _, name := range e.Recovered {
		t.Trouble(notice.Event{Kind: notice.Recovered, At: now, Rule: name, Text: "resumed by hand"})
	}
}

// outcome tells what became of a job.
func (t *Teller) outcome(o turn.Outcome, now time.Time) {
	ev := notice.Event{At: now, Rule: o.Job.Rule, File: o.Job.File, Job: o.Job.ID, Text: o.Job.Reason}
	switch {
	case o.Job.ID == 0:
		ev.Kind = notice.Blocked
		t.Trouble(ev)
	case o.Waits:
		if !t.waiting[o.Job.Rule] {
			ev.Kind, ev.File, ev.Job = notice.Blocked, "", 0
			ev.Text = fmt.Sprintf("%s is waiting and will be retried: %s", plan.Display(o.Job.File), o.Job.Reason)
			t.waiting[o.Job.Rule] = true
			t.Trouble(ev)
		}
	case o.Job.State == job.Failed:
		ev.Kind, ev.FileNow = notice.Failed, o.Job.FileNow
		ev.Next = fmt.Sprintf("stilltide --config %s retry %d", fill.QuoteWord(t.rules().File.Path), o.Job.ID)
		if o.Job.Last != nil && o.Job.Last.Output != "" {
			ev.Output = filepath.Join(t.state, o.Job.Last.Output)
		}
		t.rule(ev.Rule, rule.OnFailed, ev)
	case o.Job.State == job.Processed:
		if t.waiting[o.Job.Rule] {
			delete(t.waiting, o.Job.Rule)
			t.Trouble(notice.Event{Kind: notice.Recovered, At: now, Rule: o.Job.Rule,
				Text: "it continues: what it waited for is there again"})
		}
		ev.Kind, ev.Text, ev.FileNow = notice.Processed, o.Text(), o.Job.FileNow
		t.rule(ev.Rule, rule.OnProcessed, ev)
	}
}

// rule tells those whom a rule wants to be told.
func (t *Teller) rule(name string, on rule.Occasion, ev notice.Event) {
	if r := t.rules().Rule(name); r != nil {
		t.hub.Tell(r.Notify.Channels(on), inOwnWords(r.Notify, ev))
	}
}

// Trouble tells those whom the rule, and those whom the file wants to be told that something is
// blocked, or goes on again.
func (t *Teller) Trouble(ev notice.Event) {
	var own []string
	if r := t.rules().Rule(ev.Rule); r != nil {
		own = r.Notify.Channels(rule.OnBlocked)
		t.hub.Tell(own, inOwnWords(r.Notify, ev))
	}
	all := t.rules().File.Notify
	rest := slices.DeleteFunc(all.Channels(rule.OnBlocked), func(name string) bool {
		return slices.Contains(own, name)
	})
	t.hub.Tell(rest, inOwnWords(all, ev))
}

// Ledger tells once that the ledger cannot be written, and when it can again.
func (t *Teller) Ledger(err error, now time.Time) {
	text := ""
	if err != nil {
		text = err.Error()
	}
	switch {
	case text != "" && t.ledger == "":
		t.Trouble(notice.Event{Kind: notice.Blocked, At: now, Text: text + "; nothing starts until it can be"})
	case text == "" && t.ledger != "":
		t.Trouble(notice.Event{Kind: notice.Recovered, At: now,
			Text: "the ledger can be written again; work goes on"})
	}
	t.ledger = text
}

// Folder tells of a folder that cannot be watched as it should, and when
// it can again. A folder that is simply not there, such as that of a card, is
// no trouble.
func (t *Teller) Folder(ev watchfs.Event, now time.Time) {
	lost := ""
	switch silent := errors.Is(ev.Err, watchfs.ErrSilent); {
	case silent && ev.Kind == watchfs.Absent: // it is said when it lasts
	case silent:
		lost = plan.Display(ev.Path) + " does not answer"
	case ev.Kind == watchfs.Trouble, ev.Kind == watchfs.Absent && ev.Err != nil:
		lost = fmt.Sprintf("%s cannot be watched: %v", plan.Display(ev.Path), ev.Err)
	case ev.Kind == watchfs.Polled && !errors.Is(ev.Err, watchfs.ErrRemote):
		lost = fmt.Sprintf("%s is only polled: %v", plan.Display(ev.Path), ev.Err)
	}
	if lost != "" {
		if !t.folders[ev.Path] {
			t.folders[ev.Path] = true
			t.Trouble(notice.Event{Kind: notice.Blocked, At: now, Text: lost})
		}
		return
	}
	if (ev.Kind == watchfs.Present || ev.Kind == watchfs.Recovered) && t.folders[ev.Path] {
		delete(t.folders, ev.Path)
		text := " is watched again"
		if errors.Is(ev.Err, watchfs.ErrSilent) {
			text = " answers again"
		}
		t.Trouble(notice.Event{Kind: notice.Recovered, At: now, Text: plan.Display(ev.Path) + text})
	}
}

// Rejected tells that changed rules cannot be used.
func (t *Teller) Rejected(text string, now time.Time) {
	t.rejected = text
	t.Trouble(notice.Event{Kind: notice.Blocked, At: now, Text: text})
}

// Why says why the rules that were read last are not in use, "" if they are.
func (t *Teller) Why() string { return t.rejected }

// Accepted tells that the error in changed rules is over.
func (t *Teller) Accepted(now time.Time) {
	if t.rejected != "" {
		t.rejected = ""
		t.Trouble(notice.Event{Kind: notice.Recovered, At: now, Text: "the rules were reloaded without errors"})
	}
}

// Beat tells the channel of the heartbeat that all goes on, or what is wrong, if it is time. The
// first one waits until the watcher is ready: it says that all folders were looked through.
func (t *Teller) Beat(now time.Time, ready func() bool, pulse func() string) {
	h := t.rules().File.Heartbeat
	if h == nil || now.Before(t.beat) || t.beats == 0 && !ready() {
		return
	}
	t.beats++
	t.beat = now.Add(h.Every.Duration)
	t.hub.Beat(h.To.S, notice.Event{Kind: notice.Heartbeat, At: now, Text: pulse()})
}

// NextBeat is when the next heartbeat is due; ok is false if there is none, or the first is not
// told yet.
func (t *Teller) NextBeat() (at time.Time, ok bool) {
	return t.beat, t.rules().File.Heartbeat != nil && t.beats > 0
}
