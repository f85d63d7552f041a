package cli

import (
	"errors"
	"fmt"
	"path/filepath"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"stilltide/internal/advice"
	"stilltide/internal/control"
	"stilltide/internal/core/diag"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/engine"
	"stilltide/internal/ink"
	"stilltide/internal/ledger"
	"stilltide/internal/standing"
)

func (a *app) statusCommand() *cobra.Command {
	var isLive bool
	c := &cobra.Command{
		Use: "status", Short: "Is it alive, and is anything wrong? Then rule by rule",
		Long: `Says first whether a watcher runs and whether anything is wrong, then shows each rule.
The exit status is 1 if no watcher runs or a rule is blocked.

With --live it is a view that goes on: what runs now, what waits, what became of the last
jobs; with keys to pause, retry, cancel and look at what a job prints.`,
		RunE: func(*cobra.Command, []string) error {
			if isLive {
				return a.live()
			}
			return a.status()
		},
	}
	c.Flags().BoolVar(&isLive, "live", false, "a view that goes on, with keys; q ends it")
	return a.jsonFlag(c)
}

func (a *app) status() error {
	f, diags, err := a.readRules()
	if err != nil {
		return err
	}
	watcher, l, err := a.ask(f)
	if err != nil {
		return err
	}
	if l != nil {
		defer l.Close()
	}
	s, err := a.standing(f, diags, l, watcher)
	if err != nil {
		return err
	}
	if a.json {
		err = a.statusJSON(s)
	} else {
		a.headline(s.Watcher)
		a.statusTable(s.Rules)
		a.pools(s.Watcher.Pools)
		a.waitingFiles(f, watcher)
		a.whatNext(s.Watcher)
	}
	if err == nil && s.Trouble() {
		err = &exitError{status: exitFound}
	}
	return err
}

// running asks the watcher of the rules what only it knows; nil if none answers.
func running(f *rule.File) *engine.Live {
	live, err := control.Dial(f.StateFolder()).Live()
	if err != nil {
		return nil
	}
	return &live
}

// standing is how it all stands now. l may be nil.
func (a *app) standing(f *rule.File, diags diag.List, l *ledger.Ledger,
	watcher *engine.Live) (standing.Standing, error) {
	asked := askedOf(f, l, watcher, time.Now())
	if diags.Failed() {
		asked.Errors, _ = diags.Count()
	}
	return standing.Collect(asked)
}

// askedOf is what a standing of rules without errors is made from.
func askedOf(f *rule.File, l *ledger.Ledger, watcher *engine.Live, now time.Time) standing.Asked {
	asked := standing.Asked{Rules: f, Ledger: l, Live: watcher, Now: now}
	if watcher == nil {
		asked.Lacking = advice.Lacking(f)
	}
	return asked
}

// statusJSON prints the watcher's line, then a line a rule.
func (a *app) statusJSON(s standing.Standing) error {
	err := a.printJSON(s.Watcher)
	for _, r := range s.Rules {
		err = errors.Join(err, a.printJSON(r))
	}
	return err
}

// ask asks the watcher, and opens the ledger for reading; nil is none. A file that
// becomes a job meanwhile is in both, and never in neither.
func (a *app) ask(f *rule.File) (*engine.Live, *ledger.Ledger, error) {
	watcher := running(f)
	l, err := a.readLedger(f)
	return watcher, l, err
}

// readLedger opens the ledger for reading, nil if there is none yet.
func (a *app) readLedger(f *rule.File) (*ledger.Ledger, error) {
	_ = control.Dial(f.StateFolder()).CatchUp() // without a watcher there is nothing to wait for
	l, err := ledger.Read(f.StateFolder())
	if err == ledger.ErrNone {
		return nil, nil
	}
	return l, err
}

// headline is the first line: is it alive, and is anything wrong?
func (a *app) headline(w standing.Watcher) {
	text := ink.Fill(ink.Clean(w.Headline), a.width(a.out), 2)
	paint := a.style.Good
	switch {
	case !w.Runs, w.Blocked != "", w.Errors > 0:
		paint = a.style.Bad
	case !w.Well():
		paint = a.style.Warn
	}
	fmt.Fprintln(a.out, paint(text))
}

// whatNext says what can be done about what is wrong.
func (a *app) whatNext(w standing.Watcher) {
	var list []string
	if w.Errors > 0 {
		list = append(list, "The errors: stilltide check")
	}
	if w.Failures > 0 {
		list = append(list, "The failed jobs: stilltide jobs --state failed",
			"Send them again: stilltide retry --failed; take them off the first line: stilltide dismiss --all")
	}
	if len(list) > 0 {
		fmt.Fprintln(a.out)
	}
	for _, text := range list {
		a.filled(a.out, 2, text)
	}
}

// statusTable shows a row a rule. Columns of states that no job is in are left out.
func (a *app) statusTable(report []standing.Rule) {
	fmt.Fprintln(a.out)
	counts := []struct {
		head   string
		always bool
		paint  func(string) string
		count  func(standing.Rule) int
	}{
		{"SETTLING", false, nil, func(r standing.Rule) int { return r.Settling }},
		{"HELD", false, a.style.Warn, func(r standing.Rule) int { return r.Held }},
		{"QUEUED", true, nil, func(r standing.Rule) int { return r.Queued }},
		{"RUNNING", true, nil, func(r standing.Rule) int { return r.Running }},
		{"RETRYING", false, a.style.Warn, func(r standing.Rule) int { return r.Retrying }},
		{"PROCESSED", true, a.style.Good, func(r standing.Rule) int { return r.Processed }},
		{"FAILED", true, a.style.Bad, func(r standing.Rule) int { return r.Failed }},
		{"SKIPPED", false, nil, func(r standing.Rule) int { return r.Skipped }},
	}
	head := []string{"RULE", "STATE"}
	rows := make([][]cell, len(report))
	for i, r := range report {
		paint := a.style.Good
		if r.State != standing.Watching {
			paint = a.style.Warn
		}
		rows[i] = []cell{{text: r.Rule}, {text: string(r.State), paint: paint, whole: true}}
	}
	for _, c := range counts {
		some := c.always
		for _, r := range report {
			some = some || c.count(r) > 0
		}
		if !some {
			continue
		}
		head = append(head, c.head)
		for i, r := range report {
			rows[i] = append(rows[i], a.countCell(c.count(r), c.paint))
		}
	}
	now := time.Now()
	for i, r := range report {
		last := cell{text: "-", paint: a.style.Dim}
		if r.LastFile != "" {
			last = cell{text: plan.Clock(*r.LastEnded, now) + " " + display(filepath.Base(r.LastFile))}
		}
		rows[i] = append(rows[i], last)
	}
	a.table(append(head, "LAST FILE"), rows)
	for _, r := range report {
		if r.Next != nil {
			a.filled(a.out, 2, fmt.Sprintf("%s: jobs start next on %s (schedule)", r.Rule,
				r.Next.Local().Format("Mon 2006-01-02 15:04")))
		}
		for _, note := range r.Notes {
			text := ink.Fill(r.Rule+": "+ink.Clean(note), a.width(a.out), 2)
			fmt.Fprintln(a.out, a.style.Warn(text))
		}
	}
}

// pools lists the pools of other machines.
func (a *app) pools(list []standing.Pool) {
	if len(list) > 0 {
		fmt.Fprintln(a.out)
	}
	for _, p := range list {
		text := ink.Fill("Pool "+ink.Clean(p.Text()), a.width(a.out), 2)
		if p.Away != "" {
			text = a.style.Warn(text)
		}
		fmt.Fprintln(a.out, text)
	}
}

func (a *app) countCell(n int, paint func(string) string) cell {
	if n == 0 {
		return cell{text: "-", right: true, paint: a.style.Dim}
	}
	return cell{text: strconv.Itoa(n), right: true, paint: paint}
}

// waitingFiles lists what is not settled, and what for.
func (a *app) waitingFiles(f *rule.File, w *engine.Live) {
	if w == nil || len(w.Files) == 0 {
		return
	}
	fmt.Fprintln(a.out)
	for i, file := range w.Files {
		if i == 10 {
			fmt.Fprintf(a.out, "… and %d more wait\n", len(w.Files)-10)
			break
		}
		a.filled(a.out, 2, fmt.Sprintf("%s has waited %s: %s", display(short(f.Base, file.File)),
			plan.Span(time.Since(file.Since)), file.Why))
	}
}
