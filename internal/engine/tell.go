package engine

import (
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"
	"time"

	"stilltide/internal/core/notice"
	"stilltide/internal/core/plan"
	"stilltide/internal/notify"
	"stilltide/internal/work"
)

// hubOptions are those of the channels.
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

// tellAll tells what the flow left behind in this round.
func (e *Engine) tellAll(now time.Time) {
	e.tell.Turn(e.flow.Effects(), now)
	e.tell.Ledger(e.troubled(), now)
	if !e.o.Once {
		e.tell.Beat(now, e.sweptAll, e.pulse)
	}
}

// RulesRejected tells that changed rules cannot be used. Reload tells when that is over.
func (e *Engine) RulesRejected(text string) error {
	return e.do(func() { e.tell.Rejected(text, time.Now()) })
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
	text := fmt.Sprintf("watching since %s, %s open, %d running", e.started.Format(time.RFC3339),
		plan.Plural(open, "job"), len(e.flow.Running()))
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
