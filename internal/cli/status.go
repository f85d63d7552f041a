package cli

import (
	"fmt"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"stilltide/internal/control"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/engine"
	"stilltide/internal/ink"
	"stilltide/internal/ledger"
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
	l, err := a.readLedger(f)
	if err != nil {
		return err
	}
	if l != nil {
		defer l.Close()
	}
	live, liveErr := control.Dial(f.StateFolder()).Live()
	var watcher *engine.Live
	if liveErr == nil {
		watcher = &live
	}
	report, err := engine.Status(f, l, watcher)
	if err != nil {
		return err
	}
	if a.json {
		for _, r := range report {
			if err := a.printJSON(r); err != nil {
				return err
			}
		}
	} else {
		a.answer(report, watcher)
		if diags.Failed() {
			n, _ := diags.Count()
			fmt.Fprintf(a.out, "%s in the rules file; stilltide check shows them.\n",
				a.style.Bad(plural(n, "error")))
		}
		a.statusTable(f, report)
		a.waitingFiles(f, watcher)
	}
	if watcher == nil || watcher.Trouble != "" || inTrouble(report) > 0 {
		return &exitError{status: exitFound}
	}
	return nil
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

func inTrouble(report []engine.RuleStatus) int {
	n := 0
	for _, r := range report {
		if r.State == engine.RuleBlocked {
			n++
		}
	}
	return n
}

// answer is the first line: is it alive, and is anything wrong?
func (a *app) answer(report []engine.RuleStatus, w *engine.Live) {
	alive, wrong := a.answerParts(report, w)
	if w == nil {
		fmt.Fprintf(a.out, "%s%s Start it with: stilltide watch\n", a.style.Bad(alive), a.style.Warn(wrong))
		return
	}
	state := a.style.Good("all is well.")
	if wrong != "" {
		state = a.style.Warn(wrong + ".")
	}
	if w.Trouble != "" {
		state = a.style.Bad(w.Trouble + "; nothing starts until it can be.")
	}
	fmt.Fprintf(a.out, "%s; %s\n", a.style.Good(alive), state)
}

// answerText is the answer as one plain sentence.
func (a *app) answerText(report []engine.RuleStatus, w *engine.Live) (text string, isWrong bool) {
	alive, wrong := a.answerParts(report, w)
	switch {
	case w == nil:
		return alive + wrong, true
	case w.Trouble != "":
		return alive + "; " + w.Trouble + "; nothing starts until it can be", true
	case wrong != "":
		return alive + "; " + wrong + ".", true
	}
	return alive + "; all is well.", false
}

// answerParts reports whether it is alive, and what is wrong, if anything.
func (a *app) answerParts(report []engine.RuleStatus, w *engine.Live) (alive, wrong string) {
	failed, open, hindered := 0, 0, 0
	for _, r := range report {
		failed += r.Failed
		hindered += r.Hindered
		open += r.Queued + r.Running + r.Retrying + r.Held
	}
	var list []string
	if n := inTrouble(report); n > 0 {
		list = append(list, plural(n, "rule")+" blocked")
	}
	if hindered > 0 {
		list = append(list, plural(hindered, "job")+" waiting for disk space or for a disk")
	}
	if failed > 0 {
		list = append(list, plural(failed, "job")+" failed")
	}
	wrong = strings.Join(list, ", ")
	if w != nil {
		return fmt.Sprintf("Watching since %s (process %d)", clock(w.Started, time.Now()), w.PID), wrong
	}
	if alive = "No watcher runs."; open > 0 {
		wait := "wait"
		if open == 1 {
			wait = "waits"
		}
		alive += fmt.Sprintf(" %s in the ledger %s for one.", plural(open, "job"), wait)
	}
	if wrong != "" {
		wrong = " " + wrong + "."
	}
	return alive, wrong
}

// statusTable shows a row a rule. Columns of states that no job is in are left out.
func (a *app) statusTable(f *rule.File, report []engine.RuleStatus) {
	fmt.Fprintln(a.out)
	counts := []struct {
		head   string
		always bool
		paint  func(string) string
		count  func(engine.RuleStatus) int
	}{
		{"SETTLING", false, nil, func(r engine.RuleStatus) int { return r.Settling }},
		{"HELD", false, a.style.Warn, func(r engine.RuleStatus) int { return r.Held }},
		{"QUEUED", true, nil, func(r engine.RuleStatus) int { return r.Queued }},
		{"RUNNING", true, nil, func(r engine.RuleStatus) int { return r.Running }},
		{"RETRYING", false, a.style.Warn, func(r engine.RuleStatus) int { return r.Retrying }},
		{"PROCESSED", true, a.style.Good, func(r engine.RuleStatus) int { return r.Processed }},
		{"FAILED", true, a.style.Bad, func(r engine.RuleStatus) int { return r.Failed }},
		{"SKIPPED", false, nil, func(r engine.RuleStatus) int { return r.Skipped }},
	}
	head := []string{"RULE", "STATE"}
	rows := make([][]cell, len(report))
	for i, r := range report {
		paint := a.style.Good
		if r.State != engine.RuleWatching {
			paint = a.style.Warn
		}
		rows[i] = []cell{{text: r.Rule}, {text: string(r.State), paint: paint}}
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
			last = cell{text: clock(*r.LastEnded, now) + " " + display(filepath.Base(r.LastFile))}
		}
		rows[i] = append(rows[i], last)
	}
	a.table(append(head, "LAST FILE"), rows, columns(a.out))
	for _, r := range report {
		if r.Next != nil {
			fmt.Fprintf(a.out, "%s: jobs start next on %s (schedule)\n", r.Rule,
				r.Next.Local().Format("Mon 2006-01-02 15:04"))
		}
		for _, note := range r.Notes {
			fmt.Fprintf(a.out, "%s: %s\n", r.Rule, a.style.Warn(ink.Clean(note)))
		}
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
		fmt.Fprintf(a.out, "%s has waited %s: %s\n", display(short(f.Base, file.File)),
			plan.Span(time.Since(file.Since)), file.Why)
	}
}
