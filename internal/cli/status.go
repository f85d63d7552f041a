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
	"stilltide/internal/ledger"
)

func (a *app) statusCommand() *cobra.Command {
	return a.jsonFlag(&cobra.Command{
		Use: "status", Short: "Is it alive, and is anything wrong? Then rule by rule",
		Long: `Says first whether a watcher runs and whether anything is wrong, then shows each rule.
The exit status is 1 if no watcher runs or a rule is in trouble.`,
		RunE: func(*cobra.Command, []string) error { return a.status() },
	})
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
		a.answer(f, report, watcher)
		if diags.Failed() {
			n, _ := diags.Count()
			fmt.Fprintf(a.out, "%s in the rules file; stilltide check shows them.\n", a.style.bad(plural(n, "mistake")))
		}
		a.statusTable(f, report)
		a.waitingFiles(f, watcher)
	}
	if watcher == nil || watcher.Trouble != "" || inTrouble(report) > 0 {
		return &exitError{status: exitFound}
	}
	return nil
}

func (a *app) readLedger(f *rule.File) (*ledger.Ledger, error) {
	l, err := ledger.Read(f.StateFolder())
	if err == ledger.ErrNone {
		return nil, nil
	}
	return l, err
}

func inTrouble(report []engine.RuleStatus) int {
	n := 0
	for _, r := range report {
		if r.State == engine.RuleTrouble {
			n++
		}
	}
	return n
}

// answer is the first line: is it alive, and is anything wrong?
func (a *app) answer(f *rule.File, report []engine.RuleStatus, w *engine.Live) {
	failed, open := 0, 0
	for _, r := range report {
		failed += r.Failed
		open += r.Queued + r.Running + r.Retrying + r.Held
	}
	var wrong []string
	if n := inTrouble(report); n > 0 {
		wrong = append(wrong, plural(n, "rule")+" in trouble")
	}
	if failed > 0 {
		wrong = append(wrong, plural(failed, "job")+" failed")
	}
	if w == nil {
		fmt.Fprintf(a.out, "%s", a.style.bad("No watcher runs."))
		if open > 0 {
			fmt.Fprintf(a.out, " %s in the ledger wait for one.", plural(open, "job"))
		}
		if len(wrong) > 0 {
			fmt.Fprintf(a.out, " %s.", a.style.warn(strings.Join(wrong, ", ")))
		}
		fmt.Fprintln(a.out, " Start it with: stilltide watch")
		return
	}
	state := a.style.good("all is well")
	if len(wrong) > 0 {
		state = a.style.warn(strings.Join(wrong, ", "))
	}
	fmt.Fprintf(a.out, "%s since %s (process %d); %s.\n", a.style.good("Watching"), clock(w.Started, time.Now()), w.PID, state)
	if w.Trouble != "" {
		fmt.Fprintf(a.out, "%s\n", a.style.bad(w.Trouble+"; nothing starts until it can be"))
	}
}

func (a *app) statusTable(f *rule.File, report []engine.RuleStatus) {
	fmt.Fprintln(a.out)
	count := func(n int, paint func(string) string) cell {
		if n == 0 {
			return cell{text: "-", right: true, paint: a.style.dim}
		}
		return cell{text: strconv.Itoa(n), right: true, paint: paint}
	}
	var rows [][]cell
	now := time.Now()
	for _, r := range report {
		paint := a.style.good
		if r.State != engine.RuleWatching {
			paint = a.style.warn
		}
		last := cell{text: "-", paint: a.style.dim}
		if r.LastFile != "" {
			last = cell{text: clock(*r.LastEnded, now) + " " + display(filepath.Base(r.LastFile))}
		}
		rows = append(rows, []cell{
			{text: r.Rule}, {text: string(r.State), paint: paint},
			count(r.Waiting, nil), count(r.Queued+r.Held, nil), count(r.Running, nil), count(r.Retrying, a.style.warn),
			count(r.Processed, a.style.good), count(r.Failed, a.style.bad), count(r.Skipped, nil), last,
		})
	}
	a.table([]string{"RULE", "STATE", "WAITING", "QUEUED", "RUNNING", "RETRYING", "PROCESSED", "FAILED", "SKIPPED", "LAST FILE"}, rows, columns(a.out))
	for _, r := range report {
		for _, note := range r.Notes {
			fmt.Fprintf(a.out, "%s: %s\n", r.Rule, a.style.warn(clean(note)))
		}
	}
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
		fmt.Fprintf(a.out, "%s waits for %s: %s\n", display(short(f.Base, file.File)), plan.Span(time.Since(file.Since)), file.Why)
	}
}
