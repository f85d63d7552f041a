package see

import (
	"fmt"
	"path/filepath"
	"time"

	"github.com/dustin/go-humanize"

	"stilltide/internal/byhand"
	"stilltide/internal/cli/console"
	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/ink"
	"stilltide/internal/jsonlines"
	"stilltide/internal/ledger"
	"stilltide/internal/look"
	"stilltide/internal/standing"
	"stilltide/internal/work"
)

// ShowJob shows everything about the job that arg numbers.
func ShowJob(a *console.App, arg string) error { return (&app{a}).showJob(arg) }

func (a *app) showJob(arg string) error {
	f, l, j, err := a.oneJob(arg)
	if err != nil {
		return err
	}
	defer l.Close()
	attempts, err := l.Attempts(j.ID)
	if err != nil {
		return err
	}
	placements, err := l.Placements(j.ID)
	if err != nil {
		return err
	}
	now := time.Now()
	waits := ""
	if !j.State.Final() {
		asked := console.AskedOf(f, l, a.Running(f), now)
		asked.Errors, _ = a.Warnings.Count()
		how, err := standing.OfRules(asked)
		if err != nil {
			return err
		}
		waits = how.Waiting(asked, j.File, &j)
	}
	if a.JSON {
		return a.wholeJob(f, l, j, attempts, placements, waits)
	}
	line := a.keyLine
	a.aboutJob(j, now)
	if waits != "" {
		a.keyText("Now", waits)
	}
	for i, t := range attempts {
		line(fmt.Sprintf("Attempt %d", t.Number), "%s  %s", plan.Clock(t.Started, now),
			attemptText(j, t, i == len(attempts)-1, now))
		if t.Reason != "" {
			a.keyText("", t.Reason)
		}
	}
	if j.Result != "" {
		a.keyText("Result", j.Result)
	}
	for _, p := range placements {
		if p.State != job.Dropped {
			line(placedWord(p), "%s", a.placedText(f, p))
		}
	}
	if len(attempts) > 0 && attempts[len(attempts)-1].Output != "" {
		a.lastPrinted(j.ID, filepath.Join(l.Folder(), attempts[len(attempts)-1].Output))
	}
	a.nextSteps(f, l, j, placements)
	return nil
}

// wholeJob prints everything about a job as a JSON line.
func (a *app) wholeJob(f *rule.File, l *ledger.Ledger, j job.Job, attempts []job.Attempt,
	placements []job.Placement, waits string) error {
	line := jsonlines.WholeOf(j, attempts, placements, time.Now())
	line.Waits = waits
	for _, r := range f.All() {
		if r.Name.S == j.Rule {
			line.Steps = plan.Written(r)
		}
	}
	if n := len(attempts); n > 0 && attempts[n-1].Output != "" {
		line.Log = filepath.Join(l.Folder(), attempts[n-1].Output)
	}
	return a.PrintJSON(line)
}

// labelWidth is how wide the labels of a job's facts are.
const labelWidth = 10

// keyLine prints one fact with its label, in one line of a terminal.
func (a *app) keyLine(label, format string, args ...any) {
	text := ink.Cut(fmt.Sprintf(format, args...), a.Width(a.Out)-labelWidth-1)
	fmt.Fprintf(a.Out, "%s %s\n", a.Style.Dim(ink.Pad(label, labelWidth)), text)
}

// keyText prints a sentence with its label, in as many lines as it takes.
func (a *app) keyText(label, text string) {
	text = ink.Block(ink.Clean(text), a.Width(a.Out), labelWidth+1)
	fmt.Fprintf(a.Out, "%s %s\n", a.Style.Dim(ink.Pad(label, labelWidth)), text)
}

// aboutJob says what a job is about: what became of it, its files and its times.
func (a *app) aboutJob(j job.Job, now time.Time) {
	line := a.keyLine
	fmt.Fprintf(a.Out, "%s %d: %s\n", a.Style.Dim(ink.Pad("Job", labelWidth)), j.ID,
		a.Style.State(j.State, string(j.State)))
	if j.Reason != "" {
		a.keyText("Why", j.Reason)
	}
	line("Rule", "%s", j.Rule)
	line("File", "%s (%s, %s)", console.Display(j.File), humanize.IBytes(uint64(max(j.Facts.Size, 0))), j.Event)
	for _, m := range j.Extra {
		where := "no longer there"
		if m.FileNow != "" {
			where = "now in " + console.Display(m.FileNow)
		}
		line("and", "%s (%s)", console.Display(m.File), where)
	}
	if j.FileNow == "" {
		line("Now in", "nowhere: the input is no longer there")
	} else {
		line("Now in", "%s", console.Display(j.FileNow))
	}
	if j.Seen.IsZero() {
		line("Taken", "%s", plan.Clock(j.Taken, now))
	} else {
		line("Arrived", "%s", plan.Clock(j.Seen, now))
		line("Taken", "%s, settled after %s", plan.Clock(j.Taken, now), plan.Span(j.Taken.Sub(j.Seen)))
	}
}

// attemptText says how an attempt went.
func attemptText(j job.Job, t job.Attempt, newest bool, now time.Time) string {
	text := "running for " + plan.Span(now.Sub(t.Started))
	switch {
	case t.Ended.IsZero() && (j.State != job.Running || !newest):
		text = "cut short: the watcher ended in the middle of it"
	case !t.Ended.IsZero():
		text = "ran " + plan.Span(t.Ended.Sub(t.Started))
		if t.CPU > 0 {
			text += ", CPU " + plan.Span(t.CPU)
		}
		if t.Memory > 0 {
			text += fmt.Sprintf(", at most %s of memory", humanize.IBytes(uint64(t.Memory)))
		}
	}
	if t.Exit != nil {
		text += fmt.Sprintf(", exit code %d", *t.Exit)
	}
	return text
}

// lastPrinted shows the end of what a job printed.
func (a *app) lastPrinted(id int64, path string) {
	fmt.Fprintf(a.Out, "\n%s\n",
		a.Style.Dim(fmt.Sprintf("The last lines it printed (stilltide jobs log %d prints all):", id)))
	for _, t := range work.LastLines(path, 10) {
		fmt.Fprintf(a.Out, "    %s\n", ink.Cut(ink.Clean(t), a.Width(a.Out)-4))
	}
}

// nextSteps says what can be done with a job that is over.
func (a *app) nextSteps(f *rule.File, l *ledger.Ledger, j job.Job, placements []job.Placement) {
	if j.State == job.Failed && j.FileNow != "" {
		fmt.Fprintf(a.Out, "\nTo retry it: stilltide retry %d\n", j.ID)
	}
	placed := byhand.Undoable(placements)
	if j.State != job.Processed || len(placed) == 0 {
		return
	}
	err := look.NewAnswers().ReachJob(look.NewSet(f), j, placed)
	if err == nil {
		err = byhand.CanUndo(l, j, placed)
	}
	if err != nil {
		fmt.Fprintf(a.Out, "\nIt cannot be undone now: %v\n", err)
		return
	}
	fmt.Fprintf(a.Out, "\nTo put it all back: stilltide undo %d\n", j.ID)
}

// placedWord heads a placement's line.
func placedWord(p job.Placement) string {
	switch p.Kind {
	case job.Put:
		if p.Replaced {
			return "Replaced"
		}
		return "Made"
	case job.Linked:
		return "Linked"
	case job.Trashed:
		return "Trashed"
	case job.Deleted:
		return "Deleted"
	case job.Tagged:
		return "Tagged"
	}
	return "Moved"
}

// placedText says what a placement did, and how it stands if that is not done.
func (a *app) placedText(f *rule.File, p job.Placement) string {
	text := console.Display(console.Short(f.Base, p.Target))
	switch p.Kind {
	case job.Moved, job.Trashed:
		text = console.Display(console.Short(f.Base, p.Source)) + " → " + text
	case job.Duplicate:
		text = console.Display(console.Short(f.Base, p.Source)) + " → " + text + ", which had the same content"
	}
	if p.State != job.Done {
		text += " (" + string(p.State) + ")"
	}
	return text
}
