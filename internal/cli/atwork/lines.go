package atwork

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"log/slog"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"stilltide/internal/cli/console"
	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/core/turn"
	"stilltide/internal/ink"
	"stilltide/internal/jsonlines"
)

// lines prints a line for each job, and counts.
type lines struct {
	a     *app
	rules *rule.File
	name  int // width of the column of rules
	file  int // and of files
	where int // how wide the last one may be
	most  int // that all of them may take

	mu    sync.Mutex
	text  bytes.Buffer // to be printed
	count map[job.State]int
	// jobs that cannot go on before something else has changed: for want of room, of a disk, of a permission
	hindered map[int64]bool

	also  func(job.Job) // is told of each outcome, too
	burst burst
	tidy  *time.Timer // gives memory back when it fires; nil for a sweep
	begun atomic.Bool // all folders were looked through: from now on one that comes is news
}

func (a *app) newLines(f *rule.File) *lines {
	l := &lines{a: a, rules: f, count: map[job.State]int{}, hindered: map[int64]bool{}}
	l.fit()
	return l
}

// The columns of a line, without the spaces between them.
const (
	fileWidth  = 34 // of names of usual length
	stateWidth = 9
	spanWidth  = 7
	whereLeast = 16
)

// fit gives the columns their widths: those of a terminal fit into its line.
func (l *lines) fit() {
	most := l.a.Width(l.a.Out)
	if most == l.most {
		return
	}
	l.most, l.name = most, 0
	for _, r := range l.rules.All() {
		l.name = max(l.name, ink.Width(r.Name.S))
	}
	l.file = fileWidth
	if most == console.Unlimited {
		l.where = console.Unlimited
		return
	}
	l.name = min(l.name, 20, most/6)
	rest := most - console.StampWidth - l.name - stateWidth - spanWidth - 4*2
	l.file = max(min(fileWidth, rest-whereLeast), 12)
	l.where = max(rest-l.file, 4)
}

// cut shortens a text for its column of a terminal; elsewhere nothing is shortened.
func (l *lines) cut(s string, width int) string {
	if l.where == console.Unlimited {
		return s
	}
	return ink.Cut(s, width)
}

// report prints what became of jobs, all of a round at once.
func (l *lines) report(list []turn.Outcome) {
	l.mu.Lock()
	defer l.mu.Unlock()
	defer l.flush()
	l.fit() // a terminal may have another size by now
	stamp := ""
	if !l.a.JSON && l.a.LogFormat != console.LogJSON {
		stamp = l.a.Stamp(l.a.Style) // of all lines of the round
	}
	for i := range list {
		o := &list[i]
		if o.Job.ID == 0 { // about the rule, not about a job
			l.flush()
			l.a.Alarm("the rule %s is blocked: %s", o.Job.Rule, ink.Clean(o.Job.Reason))
			continue
		}
		if l.also != nil {
			l.also(*o.Job)
		}
		if delete(l.hindered, o.Job.ID); o.Waits {
			l.hindered[o.Job.ID] = true
		} else {
			l.count[o.Job.State]++
		}
		l.line(o, stamp)
	}
}

func (l *lines) flush() {
	if l.text.Len() > 0 {
		l.a.Board.Print(l.a.Out, l.text.String())
		l.text.Reset()
	}
}

// line adds an outcome to what is printed: time, rule, name, state, how long,
// where to.
func (l *lines) line(o *turn.Outcome, stamp string) {
	switch {
	case l.a.LogFormat == console.LogJSON:
		l.a.logOutcome(&l.text, *o)
	case l.a.JSON:
		_ = jsonlines.Write(&l.text, jsonlines.JobOf(*o.Job)) // a buffer takes everything
	case l.a.Board.Term != nil && l.burst.holds(o.Job, time.Now()):
	default:
		l.words(o, stamp)
	}
}

// filler is longer than any column.
const filler = "                                                "

// words adds an outcome in one line, and perhaps one more that says why.
func (l *lines) words(o *turn.Outcome, stamp string) {
	st, j := l.a.Style, o.Job
	column := func(s, shown string, width int) {
		l.text.WriteString(shown)
		l.text.WriteString(filler[:min(max(0, width-ink.Width(s))+2, len(filler))])
	}
	plainly := func(s string, width int) { column(s, s, width) }
	l.text.WriteString(stamp)
	plainly(l.cut(j.Rule, l.name), l.name)
	plainly(l.shownName(j), l.file)
	column(string(j.State), st.State(j.State, string(j.State)), stateWidth)
	plainly(plan.Span(j.Ran), spanWidth)
	l.text.WriteString(l.cut(l.whereTo(o), l.where))
	l.text.WriteByte('\n')
	if j.Reason != "" {
		fmt.Fprintf(&l.text, "%*s%s\n", console.StampWidth, "", st.State(j.State, l.filled(j.Reason)))
	}
	if j.Result != "" {
		fmt.Fprintf(&l.text, "%*s%s\n", console.StampWidth, "", l.filled(j.Result))
	}
}

// filled breaks a text below a line into lines of a terminal.
func (l *lines) filled(text string) string {
	return ink.Block(ink.Clean(text), l.a.Width(l.a.Out), console.StampWidth)
}

// shownName names a job's file, and says how many more it has.
func (l *lines) shownName(j *job.Job) string {
	name, more := console.Display(filepath.Base(j.File)), ""
	if len(j.Extra) > 0 {
		if n := len(j.Files()); n > 1 {
			more = fmt.Sprintf(" and %s more", plan.Number(n-1))
		}
	}
	return l.cut(name, l.file-len(more)) + more
}

// done is how many jobs are over.
func (l *lines) done() int {
	l.mu.Lock()
	defer l.mu.Unlock()
	n := 0
	for state, c := range l.count {
		if state.Final() {
			n += c
		}
	}
	return n
}

// burst holds lines back while more scroll by than anybody reads. What is held
// is summed up when its rule has nothing left to do.
type burst struct {
	second time.Time
	lines  int            // in this second
	on     bool           // until there are few again
	bad    int            // failures shown in this burst
	held   map[string]int // by rule
}

const (
	maxASecond = 12 // lines that people can follow
	maxBad     = 20 // failures that are shown of one batch anyway
)

// holds reports whether an outcome's line is held back.
func (b *burst) holds(j *job.Job, now time.Time) bool {
	if this := now.Truncate(time.Second); !this.Equal(b.second) {
		if b.lines <= maxASecond/2 || now.Sub(b.second) >= 2*time.Second {
			b.on, b.bad = false, 0
		}
		b.second, b.lines = this, 0
	}
	b.lines++
	b.on = b.on || b.lines > maxASecond
	if !b.on {
		return false
	}
	if j.State == job.Failed && b.bad < maxBad {
		b.bad++
		return false
	}
	if b.held == nil {
		b.held = map[string]int{}
	}
	b.held[j.Rule]++
	return true
}

// fewest is how many jobs a batch must have for a line of its own.
const fewest = 10

// caughtUp sums up a batch that scrolled by, or what a card brought.
func (l *lines) caughtUp(b turn.Batch) {
	if l.tidy != nil && b.Jobs() >= manyJobs {
		l.tidy.Reset(tidyAfter)
	}
	l.mu.Lock()
	held := l.burst.held[b.Rule]
	delete(l.burst.held, b.Rule)
	l.mu.Unlock()
	if l.a.JSON || l.a.LogFormat == console.LogJSON || b.Jobs() < fewest && !b.Returned && held == 0 {
		return
	}
	text := fmt.Sprintf("%s%s: %s done: %s, in %s", l.a.Stamp(l.a.Style), l.a.Style.Bold(b.Rule),
		plan.Plural(b.Jobs(), "file"),
		counts(b.Count), plan.Span(b.Ended.Sub(b.Began)))
	if held > 0 {
		text += fmt.Sprintf(" (%s not listed here)", plan.Number(held))
	}
	l.a.Board.Print(l.a.Out, text+"\n")
}

func (l *lines) whereTo(o *turn.Outcome) string {
	j := o.Job
	switch {
	case !o.Next.IsZero():
		return fmt.Sprintf("again in %s", plan.Span(time.Until(o.Next)))
	case j.Event == file.Removed:
		return "it was removed"
	case j.FileNow == "":
		return "the input is no longer there"
	case j.FileNow == j.File:
		return "stays"
	}
	folder := console.Display(console.Short(l.rules.Base, filepath.Dir(j.FileNow)))
	if filepath.Base(j.FileNow) != filepath.Base(j.File) {
		folder = console.Display(console.Short(l.rules.Base, j.FileNow))
	}
	return "→ " + folder
}

// total sums up what was reported.
func (l *lines) total() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	all := 0
	for state, n := range l.count {
		if state != job.Retrying {
			all += n
		}
	}
	text, more := "no job is over", "attempt"
	if all > 0 {
		more = "more attempt"
		text = plan.Plural(all, "job") + ": " + counts(l.count)
	}
	if n := l.count[job.Retrying]; n > 0 {
		text += fmt.Sprintf("; %s failed", plan.Plural(n, more))
	}
	if n := len(l.hindered); n > 0 {
		text += fmt.Sprintf("; %s cannot go on yet", plan.Plural(n, "job"))
	}
	return text
}

// counts lists how many jobs are in which state.
func counts(count map[job.State]int) string {
	var parts []string
	for _, s := range job.States {
		switch n := count[s]; {
		case n == 0:
		case s == job.Retrying: // no end of a job
		default:
			parts = append(parts, plan.Number(n)+" "+string(s))
		}
	}
	return strings.Join(parts, ", ")
}

// logOutcome writes the record of one outcome.
func (a *app) logOutcome(w io.Writer, o turn.Outcome) {
	j, level := jsonlines.JobOf(*o.Job), slog.LevelInfo
	switch o.Job.State {
	case job.Failed:
		level = slog.LevelError
	case job.Retrying, job.Vanished:
		level = slog.LevelWarn
	}
	attrs := []slog.Attr{slog.Int64("id", j.ID), slog.String("rule", j.Rule), slog.String("file", j.File),
		slog.String("state", string(j.State)),
		slog.Int("attempts", j.Attempts), slog.Float64("ran_s", j.RanS)}
	if j.FileNow != nil {
		attrs = append(attrs, slog.String("file_now", *j.FileNow))
	}
	if j.Reason != "" {
		attrs = append(attrs, slog.String("reason", j.Reason))
	}
	if !o.Next.IsZero() {
		attrs = append(attrs, slog.Time("next", o.Next))
	}
	a.LogTo(w).LogAttrs(context.Background(), level, "job "+string(j.State), attrs...)
}
