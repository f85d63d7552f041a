package cli

import (
	"fmt"
	"path/filepath"
	"slices"
	"time"

	"github.com/dustin/go-humanize"

	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/ink"
	"stilltide/internal/ledger"
	"stilltide/internal/place"
	"stilltide/internal/work"
)

func (a *app) showJob(arg string) error {
	f, l, j, err := a.oneJob(arg)
	if err != nil {
		return err
	}
	defer l.Close()
	if a.json {
		return a.printJSON(jobLine(j))
	}
	attempts, err := l.Attempts(j.ID)
	if err != nil {
		return err
	}
	placements, err := l.Placements(j.ID)
	if err != nil {
		return err
	}
	now := time.Now()
	line := func(label, format string, args ...any) {
		fmt.Fprintf(a.out, "%s %s\n", a.style.Dim(ink.Pad(label, 10)), fmt.Sprintf(format, args...))
	}
	aboutJob(line, a.style, j, now)
	for i, t := range attempts {
		line(fmt.Sprintf("Attempt %d", t.Number), "%s  %s", clock(t.Started, now),
			attemptText(j, t, i == len(attempts)-1))
		if t.Reason != "" {
			line("", "%s", ink.Clean(t.Reason))
		}
	}
	if j.Result != "" {
		line("Result", "%s", ink.Clean(j.Result))
	}
	for _, p := range placements {
		if p.State != ledger.Dropped {
			line(placedWord(p), "%s", a.placedText(f, p))
		}
	}
	if !j.Due.IsZero() && j.State == ledger.Retrying {
		line("Next", "tried again in %s", plan.Span(time.Until(j.Due)))
	}
	if len(attempts) > 0 && attempts[len(attempts)-1].Output != "" {
		a.lastPrinted(j.ID, filepath.Join(l.Folder(), attempts[len(attempts)-1].Output))
	}
	a.nextSteps(j, placements)
	return nil
}

// aboutJob says what a job is about: what became of it, its files and its times.
func aboutJob(line func(label, format string, args ...any), style ink.Style, j ledger.Job, now time.Time) {
	line("Job", "%d: %s", j.ID, style.State(j.State, string(j.State)))
	if j.Reason != "" {
		line("Why", "%s", ink.Clean(j.Reason))
	}
	line("Rule", "%s", j.Rule)
	line("File", "%s (%s, %s)", display(j.File), humanize.IBytes(uint64(max(j.Facts.Size, 0))), j.Event)
	for _, m := range j.Extra {
		where := "no longer there"
		if m.FileNow != "" {
			where = "now in " + display(m.FileNow)
		}
		line("and", "%s (%s)", display(m.File), where)
	}
	if j.FileNow == "" {
		line("Now in", "nowhere: the input is no longer there")
	} else {
		line("Now in", "%s", display(j.FileNow))
	}
	if j.Seen.IsZero() {
		line("Taken", "%s", clock(j.Taken, now))
	} else {
		line("Arrived", "%s", clock(j.Seen, now))
		line("Taken", "%s, settled after %s", clock(j.Taken, now), plan.Span(j.Taken.Sub(j.Seen)))
	}
}

// attemptText says how an attempt went.
func attemptText(j ledger.Job, t ledger.Attempt, newest bool) string {
	text := "running"
	switch {
	case t.Ended.IsZero() && (j.State != ledger.Running || !newest):
		text = "cut short: the watcher ended in the middle of it"
	case !t.Ended.IsZero():
		text = "ran " + plan.Span(t.Ended.Sub(t.Started))
		if t.Memory > 0 {
			text += fmt.Sprintf(", CPU %s, at most %s of memory", plan.Span(t.CPU),
				humanize.IBytes(uint64(t.Memory)))
		}
	}
	if t.Exit != nil {
		text += fmt.Sprintf(", exit code %d", *t.Exit)
	}
	return text
}

// lastPrinted shows the end of what a job printed.
func (a *app) lastPrinted(id int64, path string) {
	fmt.Fprintf(a.out, "\n%s\n",
		a.style.Dim(fmt.Sprintf("The last lines it printed (stilltide jobs log %d prints all):", id)))
	for _, t := range work.LastLines(path, 10) {
		fmt.Fprintf(a.out, "    %s\n", ink.Clean(t))
	}
}

// nextSteps says what can be done with a job that is over.
func (a *app) nextSteps(j ledger.Job, placements []ledger.Placement) {
	if j.State == ledger.Failed && j.FileNow != "" {
		fmt.Fprintf(a.out, "\nTo retry it: stilltide retry %d\n", j.ID)
	}
	done := func(p ledger.Placement) bool { return p.State == ledger.Done }
	if j.State == ledger.Processed && slices.ContainsFunc(placements, done) {
		fmt.Fprintf(a.out, "\nTo put it all back: stilltide undo %d\n", j.ID)
	}
}

// placedWord heads a placement's line.
func placedWord(p ledger.Placement) string {
	switch place.Kind(p.Kind) {
	case place.Put:
		if p.Replaced {
			return "Replaced"
		}
		return "Made"
	case place.Linked:
		return "Linked"
	case place.Trashed:
		return "Trashed"
	case place.Deleted:
		return "Deleted"
	case place.Tagged:
		return "Tagged"
	}
	return "Moved"
}

// placedText says what a placement did, and how it stands if that is not done.
func (a *app) placedText(f *rule.File, p ledger.Placement) string {
	text := display(short(f.Base, p.Target))
	switch place.Kind(p.Kind) {
	case place.Moved, place.Trashed:
		text = display(short(f.Base, p.Source)) + " → " + text
	case place.Duplicate:
		text = display(short(f.Base, p.Source)) + " → " + text + ", which had the same content"
	}
	if p.State != ledger.Done {
		text += a.style.Warn(" (" + string(p.State) + ")")
	}
	return text
}
