package see

import (
	"errors"
	"fmt"
	"path/filepath"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"stilltide/internal/cli/console"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/ink"
	"stilltide/internal/standing"
	"stilltide/internal/watcher"
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
	return a.JSONFlag(c)
}

func (a *app) status() error {
	f, diags, err := a.ReadRules()
	if err != nil {
		return err
	}
	w, l, err := a.Ask(f)
	if err != nil {
		return err
	}
	if l != nil {
		defer l.Close()
	}
	s, err := a.Standing(f, diags, l, w)
	if err != nil {
		return err
	}
	if a.JSON {
		err = a.statusJSON(s)
	} else {
		a.headline(s.Watcher)
		a.statusTable(s.Rules)
		a.pools(s.Watcher.Pools)
		a.waitingFiles(f, w)
		a.whatNext(s.Watcher)
	}
	if err == nil && s.Trouble() {
		err = &console.ExitError{Status: console.ExitFound}
	}
	return err
}

// statusJSON prints the watcher's line, then a line a rule.
func (a *app) statusJSON(s standing.Standing) error {
	err := a.PrintJSON(s.Watcher)
	for _, r := range s.Rules {
		err = errors.Join(err, a.PrintJSON(r))
	}
	return err
}

// headline is the first line: is it alive, and is anything wrong?
func (a *app) headline(w standing.Watcher) {
	text := ink.Fill(ink.Clean(w.Headline), a.Width(a.Out), 2)
	paint := a.Style.Good
	switch {
	case !w.Runs, w.Blocked != "", w.Errors > 0:
		paint = a.Style.Bad
	case !w.Well():
		paint = a.Style.Warn
	}
	fmt.Fprintln(a.Out, paint(text))
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
		fmt.Fprintln(a.Out)
	}
	for _, text := range list {
		a.Filled(a.Out, 2, text)
	}
}

// statusTable shows a row a rule. Columns of states that no job is in are left out.
func (a *app) statusTable(report []standing.Rule) {
	fmt.Fprintln(a.Out)
	counts := []struct {
		head   string
		always bool
		paint  func(string) string
		count  func(standing.Rule) int
	}{
		{"SETTLING", false, nil, func(r standing.Rule) int { return r.Settling }},
		{"HELD", false, a.Style.Warn, func(r standing.Rule) int { return r.Held }},
		{"QUEUED", true, nil, func(r standing.Rule) int { return r.Queued }},
		{"RUNNING", true, nil, func(r standing.Rule) int { return r.Running }},
		{"RETRYING", false, a.Style.Warn, func(r standing.Rule) int { return r.Retrying }},
		{"PROCESSED", true, a.Style.Good, func(r standing.Rule) int { return r.Processed }},
		{"FAILED", true, a.Style.Bad, func(r standing.Rule) int { return r.Failed }},
		{"SKIPPED", false, nil, func(r standing.Rule) int { return r.Skipped }},
	}
	head := []string{"RULE", "STATE"}
	rows := make([][]console.Cell, len(report))
	for i, r := range report {
		paint := a.Style.Good
		if r.State != standing.Watching {
			paint = a.Style.Warn
		}
		rows[i] = []console.Cell{{Text: r.Rule}, {Text: string(r.State), Paint: paint, Whole: true}}
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
		last := console.Cell{Text: "-", Paint: a.Style.Dim}
		if r.LastFile != "" {
			last = console.Cell{Text: plan.Clock(*r.LastEnded, now) + " " + console.Display(filepath.Base(r.LastFile))}
		}
		rows[i] = append(rows[i], last)
	}
	a.Table(append(head, "LAST FILE"), rows)
	for _, r := range report {
		if r.Next != nil {
			a.Filled(a.Out, 2, fmt.Sprintf("%s: jobs start next on %s (schedule)", r.Rule,
				r.Next.Local().Format("Mon 2006-01-02 15:04")))
		}
		for _, note := range r.Notes {
			text := ink.Fill(r.Rule+": "+ink.Clean(note), a.Width(a.Out), 2)
			fmt.Fprintln(a.Out, a.Style.Warn(text))
		}
	}
}

// pools lists the pools of other machines.
func (a *app) pools(list []standing.Pool) {
	if len(list) > 0 {
		fmt.Fprintln(a.Out)
	}
	for _, p := range list {
		text := ink.Fill("Pool "+ink.Clean(p.Text()), a.Width(a.Out), 2)
		if p.Away != "" {
			text = a.Style.Warn(text)
		}
		fmt.Fprintln(a.Out, text)
	}
}

func (a *app) countCell(n int, paint func(string) string) console.Cell {
	if n == 0 {
		return console.Cell{Text: "-", Right: true, Paint: a.Style.Dim}
	}
	return console.Cell{Text: strconv.Itoa(n), Right: true, Paint: paint}
}

// waitingFiles lists what is not settled, and what for.
func (a *app) waitingFiles(f *rule.File, w *watcher.Live) {
	if w == nil || len(w.Files) == 0 {
		return
	}
	fmt.Fprintln(a.Out)
	for i, file := range w.Files {
		if i == 10 {
			fmt.Fprintf(a.Out, "… and %s more wait\n", plan.Number(len(w.Files)-10))
			break
		}
		a.Filled(a.Out, 2, fmt.Sprintf("%s has waited %s: %s", console.Display(console.Short(f.Base, file.File)),
			plan.Span(time.Since(file.Since)), file.Why))
	}
}
