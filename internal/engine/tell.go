package engine

import (
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"stilltide/internal/core/fill"
	"stilltide/internal/core/job"
	"stilltide/internal/core/notice"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/core/turn"
	"stilltide/internal/notify"
	"stilltide/internal/watchfs"
	"stilltide/internal/work"
)

// telling decides who is told of what. It belongs to the flow's goroutine;
// the hub that it tells never makes it wait.
type telling struct {
	hub      *notify.Hub
	ledger   string          // what was last said of the ledger's trouble
	folders  map[string]bool // folders of which trouble was said
	waiting  map[string]bool // rules whose jobs wait for room or for a disk
	rejected string          // why the rules that were read last are not in use
	beat     time.Time       // when the next heartbeat is due
	beats    int             // heartbeats so far
}

func newTelling() telling { return telling{waiting: map[string]bool{}, folders: map[string]bool{}} }

func (e *Engine) hubOptions() notify.Options {
	host, _ := os.Hostname() // without one it is not told
	return notify.Options{
		State: e.state, Rules: e.o.Rules.Path, Machine: host,
		Printed: func(path string) []string { return work.LastLines(path, printedLines) },
		Log: func(ev notice.Event) {
			if e.o.Notice != nil {
				e.o.Notice(ev)
			}
		},
		Report: func(sentence string) {
			if e.o.Said != nil {
				e.o.Said(sentence)
			}
		},
	}
}

// printedLines is how much of what a command printed a notice repeats.
const printedLines = 3

// tellAll reports what the flow left behind in this round.
func (e *Engine) tellAll(now time.Time) {
	f := e.flow.Effects()
	for _, o := range f.Outcomes {
		e.tellOutcome(o, now)
	}
	for _, u := range f.Overdue {
		e.tellRule(u.Rule, rule.OnOverdue, notice.Event{Kind: notice.Overdue, At: now, Rule: u.Rule, File: u.File,
			Text: u.Why})
	}
	for _, b := range f.CaughtUp {
		e.tellRule(b.Rule, rule.OnCaughtUp, caughtUpEvent(b, now))
	}
	for _, n := range f.Notices {
		e.tell.hub.Tell([]string{n.Channel}, notice.Event{Kind: notice.Told, At: now, Rule: n.Rule, File: n.File,
			Job: n.Job, Text: n.Text})
	}
	for _, path := range f.Unmatched {
		own := e.flow.Rules().File.Notify
		e.tell.hub.Tell(own.Channels(rule.OnUnmatched), inOwnWords(own, notice.Event{Kind: notice.Unmatched, At: now,
			File: path}))
	}
	for _, name := range f.Recovered {
		e.tellTrouble(notice.Event{Kind: notice.Recovered, At: now, Rule: name, Text: "resumed by hand"})
	}
	e.tellLedger(now)
	e.heartbeat(now)
}

func (e *Engine) tellOutcome(o turn.Outcome, now time.Time) {
	ev := notice.Event{At: now, Rule: o.Job.Rule, File: o.Job.File, Job: o.Job.ID, Text: o.Job.Reason}
	switch {
	case o.Job.ID == 0:
		ev.Kind = notice.Blocked
		e.tellTrouble(ev)
	case o.Waits:
		if !e.tell.waiting[o.Job.Rule] {
			ev.Kind, ev.File, ev.Job = notice.Blocked, "", 0
			ev.Text = fmt.Sprintf("%s is waiting and will be retried: %s", plan.Display(o.Job.File), o.Job.Reason)
			e.tell.waiting[o.Job.Rule] = true
			e.tellTrouble(ev)
		}
	case o.Job.State == job.Failed:
		ev.Kind, ev.FileNow = notice.Failed, o.Job.FileNow
		ev.Next = fmt.Sprintf("stilltide --config %s retry %d", fill.QuoteWord(e.o.Rules.Path), o.Job.ID)
		if o.Job.Last != nil && o.Job.Last.Output != "" {
			ev.Output = filepath.Join(e.state, o.Job.Last.Output)
		}
		e.tellRule(ev.Rule, rule.OnFailed, ev)
	case o.Job.State == job.Processed:
		if e.tell.waiting[o.Job.Rule] {
			delete(e.tell.waiting, o.Job.Rule)
			e.tellTrouble(notice.Event{Kind: notice.Recovered, At: now, Rule: o.Job.Rule,
				Text: "it continues: what it waited for is there again"})
		}
		ev.Kind, ev.Text, ev.FileNow = notice.Processed, o.Text(), o.Job.FileNow
		e.tellRule(ev.Rule, rule.OnProcessed, ev)
	}
}

// tellRule tells those whom a rule wants to be told.
func (e *Engine) tellRule(name string, on rule.Occasion, ev notice.Event) {
	if r := e.flow.Rules().Rule(name); r != nil {
		e.tell.hub.Tell(r.Notify.Channels(on), inOwnWords(r.Notify, ev))
	}
}

// inOwnWords fills the words that the user has for notices of a rule, or of the whole file.
func inOwnWords(n *rule.Notify, ev notice.Event) notice.Event {
	if n == nil || n.Words == nil {
		return ev
	}
	count, folder := 1, filepath.Dir(ev.File)
	if ev.FileNow != "" {
		folder = filepath.Dir(ev.FileNow)
	}
	if ev.Kind == notice.CaughtUp {
		count, folder = ev.Jobs, ev.FileNow
	}
	words := map[string]string{"kind": string(ev.Kind), "rule": ev.Rule, "file": ev.File,
		"name":     filepath.Base(ev.File),
		"file_now": ev.FileNow, "folder": folder, "reason": ev.Text, "job": fmt.Sprint(ev.Job),
		"count": fmt.Sprint(count)}
	said, err := n.Words.Fill(func(word string) (fill.Value, error) { return fill.Text(words[word]), nil })
	if err == nil {
		ev.Said = said
	}
	return ev
}

// tellTrouble tells those whom the rule, and those whom the file wants to be told.
func (e *Engine) tellTrouble(ev notice.Event) {
	var own []string
	if r := e.flow.Rules().Rule(ev.Rule); r != nil {
		own = r.Notify.Channels(rule.OnBlocked)
		e.tell.hub.Tell(own, inOwnWords(r.Notify, ev))
	}
	all := e.flow.Rules().File.Notify
	rest := slices.DeleteFunc(all.Channels(rule.OnBlocked), func(name string) bool {
		return slices.Contains(own,
			name)
	})
	e.tell.hub.Tell(rest, inOwnWords(all, ev))
}

// tellLedger tells once that the ledger cannot be written, and when it can again.
func (e *Engine) tellLedger(now time.Time) {
	text := ""
	if err := e.troubled(); err != nil {
		text = err.Error()
	}
	switch was := e.tell.ledger; {
	case text != "" && was == "":
		e.tellTrouble(notice.Event{Kind: notice.Blocked, At: now, Text: text + "; nothing starts until it can be"})
	case text == "" && was != "":
		e.tellTrouble(notice.Event{Kind: notice.Recovered, At: now,
			Text: "the ledger can be written again; work goes on"})
	}
	e.tell.ledger = text
}

// tellFolder reports a folder that cannot be watched as it should, and when
// it can again. A folder that is simply not there, such as that of a card, is
// no trouble.
func (e *Engine) tellFolder(ev watchfs.Event, now time.Time) {
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
		if !e.tell.folders[ev.Path] {
			e.tell.folders[ev.Path] = true
			e.tellTrouble(notice.Event{Kind: notice.Blocked, At: now, Text: lost})
		}
		return
	}
	if (ev.Kind == watchfs.Present || ev.Kind == watchfs.Recovered) && e.tell.folders[ev.Path] {
		delete(e.tell.folders, ev.Path)
		text := " is watched again"
		if errors.Is(ev.Err, watchfs.ErrSilent) {
			text = " answers again"
		}
		e.tellTrouble(notice.Event{Kind: notice.Recovered, At: now, Text: plan.Display(ev.Path) + text})
	}
}

// RulesRejected tells that changed rules cannot be used. Reload tells when that is over.
func (e *Engine) RulesRejected(text string) error {
	return e.do(func() {
		e.tell.rejected = text
		e.tellTrouble(notice.Event{Kind: notice.Blocked, At: time.Now(), Text: text})
	})
}

// rulesRead tells that the error in changed rules is over.
func (e *Engine) rulesRead() {
	if e.tell.rejected != "" {
		e.tell.rejected = ""
		e.tellTrouble(notice.Event{Kind: notice.Recovered, At: time.Now(),
			Text: "the rules were reloaded without errors"})
	}
}

// caughtUpEvent says in one sentence what a rule has done.
func caughtUpEvent(b turn.Batch, now time.Time) notice.Event {
	text := fmt.Sprintf("%d processed", b.Count[job.Processed])
	for _, s := range slices.Sorted(maps.Keys(b.Count)) {
		if s != job.Processed && b.Count[s] > 0 {
			text += fmt.Sprintf(", %d %s", b.Count[s], s)
		}
	}
	text = fmt.Sprintf("%s, in %s", text, plan.Span(b.Ended.Sub(b.Began)))
	if len(b.Failed) > 0 {
		var names []string
		for _, j := range b.Failed {
			names = append(names, plan.Display(filepath.Base(j.File)))
		}
		if more := b.Count[job.Failed] - len(names); more > 0 {
			names = append(names, fmt.Sprintf("and %d more", more))
		}
		text += "; failed: " + strings.Join(names, ", ")
	}
	return notice.Event{Kind: notice.CaughtUp, At: now, Rule: b.Rule, Text: text, Jobs: b.Jobs(), FileNow: b.Folder}
}

// heartbeat tells the chosen channel that all goes on, or what is wrong.
func (e *Engine) heartbeat(now time.Time) {
	h := e.flow.Rules().File.Heartbeat
	if h == nil || e.o.Once || now.Before(e.tell.beat) {
		return
	}
	if e.tell.beats == 0 && !e.sweptAll() {
		return // the first one says that all folders were looked through
	}
	e.tell.beats++
	e.tell.beat = now.Add(h.Every.Duration)
	e.tell.hub.Beat(h.To.S, notice.Event{Kind: notice.Heartbeat, At: now, Text: e.pulse()})
}

// nextBeat is when the loop must wake for a heartbeat.
func (e *Engine) nextBeat() (at time.Time, ok bool) {
	if e.flow.Rules().File.Heartbeat == nil || e.o.Once || e.tell.beats == 0 {
		return at, false
	}
	return e.tell.beat, true
}

// pulse says in one sentence how the watcher is.
func (e *Engine) pulse() string {
	open := e.flow.Open()
	if tally, err := e.ledger.Tally(); err == nil { // it knows those in the ledger alone, too
		open = 0
		for _, counts := range tally {
			for state, n := range counts {
				if !state.Final() {
					open += n
				}
			}
		}
	}
	text := fmt.Sprintf("watching since %s, %d jobs open, %d running", e.started.Format(time.RFC3339), open,
		len(e.flow.Running()))
	if n := len(e.flow.Troubles()); n > 0 {
		text += fmt.Sprintf("; rules that are blocked: %s", strings.Join(slices.Sorted(maps.Keys(e.flow.Troubles())),
			", "))
	}
	if n := len(e.flow.Absent()); n > 0 {
		text += fmt.Sprintf("; folders that are not there: %s",
			strings.Join(slices.Sorted(maps.Keys(e.flow.Absent())), ", "))
	}
	if err := e.troubled(); err != nil {
		text += "; " + err.Error()
	}
	return text
}
