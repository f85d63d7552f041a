package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"stilltide/internal/advice"
	"stilltide/internal/control"
	"stilltide/internal/core/file"
	"stilltide/internal/core/notice"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/engine"
	"stilltide/internal/ink"
	"stilltide/internal/ledger"
	"stilltide/internal/metrics"
	"stilltide/internal/notify"
	"stilltide/internal/runner"
	"stilltide/internal/service"
	"stilltide/internal/watchfs"
)

func (a *app) watchCommand() *cobra.Command {
	return a.trustFlag(&cobra.Command{
		Use: "watch", Short: "Watch the folders and process what arrives, until stopped",
		Long: `Watches the folders of all rules in the foreground: a line for each job on standard output,
everything else on standard error. Ctrl-C or SIGTERM ends it: nothing new starts, running
jobs get 30 seconds, the rest stays queued in the ledger for the next start.`,
		RunE: func(*cobra.Command, []string) error { return a.watch() },
	})
}

func (a *app) sweepCommand() *cobra.Command {
	var only string
	c := a.trustFlag(&cobra.Command{
		Use: "sweep", Short: "Process what is in the folders now, then exit",
		Long: `Handles the files that are there now, then exits. Each job is attempted once; jobs that must
be retried, files that a program still writes, and jobs that wait for their rule's schedule
are left to the next watch or sweep. The exit status is 1 if a job failed.

With --rule only that rule's files are handled, whatever its schedule says.`,
		RunE: func(*cobra.Command, []string) error { return a.sweep(only) },
	})
	c.Flags().StringVar(&only, "rule", "", "only the files of this `RULE`")
	return c
}

// trustFlag adds --trust-rules, --log-format and --json.
func (a *app) trustFlag(c *cobra.Command) *cobra.Command {
	c.Flags().BoolVar(&a.trust, "trust-rules", false, "use rules that another user can change")
	c.Flags().StringVar(&a.logFormat, "log-format", logText,
		"the `FORMAT` of what it says: text, or json for machines (log/slog)")
	return a.jsonFlag(c)
}

// lines prints a line for each job, and counts.
type lines struct {
	a     *app
	rules *rule.File
	name  int // width of the longest rule name

	mu    sync.Mutex
	text  bytes.Buffer // to be printed
	count map[ledger.State]int
	also  func(ledger.Job) // is told of each outcome, too
	burst burst
	tidy  *time.Timer // gives memory back when it fires; nil for a sweep
	begun atomic.Bool // all folders were looked through: from now on one that comes is news
}

func (a *app) newLines(f *rule.File) *lines {
	l := &lines{a: a, rules: f, count: map[ledger.State]int{}}
	for _, r := range f.All() {
		l.name = max(l.name, min(ink.Width(r.Name.S), 20))
	}
	return l
}

// report prints what became of jobs, all of a round at once.
func (l *lines) report(list []engine.Outcome) {
	l.mu.Lock()
	defer l.mu.Unlock()
	defer l.flush()
	stamp := ""
	if !l.a.json && l.a.logFormat != logJSON {
		stamp = l.a.stamp(l.a.style) // of all lines of the round
	}
	for i := range list {
		o := &list[i]
		if o.Job.ID == 0 { // about the rule, not about a job
			l.flush()
			l.a.alarm("the rule %s is blocked: %s", o.Job.Rule, ink.Clean(o.Job.Reason))
			continue
		}
		if l.also != nil {
			l.also(*o.Job)
		}
		l.count[o.Job.State]++
		l.line(o, stamp)
	}
}

func (l *lines) flush() {
	if l.text.Len() > 0 {
		l.a.board.print(l.a.out, l.text.String())
		l.text.Reset()
	}
}

// line adds an outcome to what is printed: time, rule, name, state, how long,
// where to.
func (l *lines) line(o *engine.Outcome, stamp string) {
	switch {
	case l.a.logFormat == logJSON:
		l.a.logOutcome(&l.text, *o)
	case l.a.json:
		_ = writeJSON(&l.text, jobLine(*o.Job)) // a buffer takes everything
	case l.a.board.term != nil && l.burst.holds(o.Job, time.Now()):
	default:
		l.words(o, stamp)
	}
}

// filler is longer than any column.
const filler = "                                                "

// words adds an outcome in one line, and perhaps one more that says why.
func (l *lines) words(o *engine.Outcome, stamp string) {
	st, j := l.a.style, o.Job
	column := func(s, shown string, width int) {
		l.text.WriteString(shown)
		l.text.WriteString(filler[:min(max(0, width-ink.Width(s))+2, len(filler))])
	}
	plainly := func(s string, width int) { column(s, s, width) }
	l.text.WriteString(stamp)
	plainly(ink.Cut(j.Rule, 20), l.name)
	plainly(shownName(j), 34)
	column(string(j.State), st.State(j.State, string(j.State)), 9)
	plainly(plan.Span(j.Ran), 7)
	l.text.WriteString(l.whereTo(o))
	l.text.WriteByte('\n')
	for _, more := range []string{st.State(j.State, ink.Clean(j.Reason)), ink.Clean(j.Result)} {
		if more != "" {
			fmt.Fprintf(&l.text, "%10s%s\n", "", more)
		}
	}
}

// shownName names a job's file, and says how many more it has.
func shownName(j *ledger.Job) string {
	name := display(filepath.Base(j.File))
	if len(j.Extra) > 0 {
		if n := len(j.Files()); n > 1 {
			return ink.Cut(name, 22) + fmt.Sprintf(" and %d more", n-1)
		}
	}
	return ink.Cut(name, 34)
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
func (b *burst) holds(j *ledger.Job, now time.Time) bool {
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
	if j.State == ledger.Failed && b.bad < maxBad {
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
func (l *lines) caughtUp(b engine.Batch) {
	if l.tidy != nil && b.Jobs() >= manyJobs {
		l.tidy.Reset(tidyAfter)
	}
	l.mu.Lock()
	held := l.burst.held[b.Rule]
	delete(l.burst.held, b.Rule)
	l.mu.Unlock()
	if l.a.json || l.a.logFormat == logJSON || b.Jobs() < fewest && !b.Returned && held == 0 {
		return
	}
	text := fmt.Sprintf("%s%s: %s done: %s, in %s", l.a.stamp(l.a.style), l.a.style.Bold(b.Rule),
		plural(b.Jobs(), "file"),
		counts(b.Count), plan.Span(b.Ended.Sub(b.Began)))
	if held > 0 {
		text += fmt.Sprintf(" (%d not listed here)", held)
	}
	l.a.board.print(l.a.out, text+"\n")
}

func (l *lines) whereTo(o *engine.Outcome) string {
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
	folder := display(short(l.rules.Base, filepath.Dir(j.FileNow)))
	if filepath.Base(j.FileNow) != filepath.Base(j.File) {
		folder = display(short(l.rules.Base, j.FileNow))
	}
	return "→ " + folder
}

// stamp begins a line with the time, unless it goes to the journal, which
// keeps the time itself.
func (a *app) stamp(st ink.Style) string {
	if os.Getenv("JOURNAL_STREAM") != "" {
		return ""
	}
	return st.Dim(time.Now().Format("15:04:05")) + "  "
}

func (a *app) folderNote(f *rule.File, ev watchfs.Event) {
	path := display(short(f.Base, ev.Path))
	switch silent := errors.Is(ev.Err, watchfs.ErrSilent); {
	case silent && ev.Kind == watchfs.Trouble:
		a.alarm("blocked: %s does not answer; its rules wait, and others go on", path)
		return
	case silent && ev.Kind == watchfs.Recovered:
		a.note("%s answers again", path)
		return
	case silent:
		return // it is said when it lasts
	}
	switch ev.Kind {
	case watchfs.Absent:
		why := ""
		if ev.Err != nil {
			why = " (" + ev.Err.Error() + ")"
		}
		a.note("the folder %s is not there%s; waiting for it", path, why)
	case watchfs.Present:
		a.note("watching %s", path)
	case watchfs.Polled:
		a.note("%s is polled every 5 s: %v", path, ev.Err)
	case watchfs.Recovered:
		a.note("%s is watched by events again", path)
	case watchfs.Trouble:
		a.alarm("%s cannot be watched: %v", path, ev.Err)
	}
}

// logNotice says what is told to the channel log.
func (a *app) logNotice(ev notice.Event) {
	a.note("notice: %s", ink.Clean(notify.One(rule.LogChannel, ev).Text))
}

func (a *app) ledgerNote(err error) {
	if err == nil {
		a.note("the ledger can be written again; going on")
		return
	}
	a.alarm("%v; nothing starts until it can be", err)
}

// collectAt has the garbage collector come when the memory is three times what
// is in use (runtime/debug.SetGCPercent). What is in use is little; what a burst
// of files takes is given back afterwards.
const collectAt = 200

// reserveSize is of memory that counts as in use, so that the collector does not
// come every few hundred files only because little else is. Nothing is ever
// written to it, so that it takes no memory.
const reserveSize = 12 << 20

// A batch of so many jobs takes memory that is given back when the rule has had
// nothing to do for a while.
const (
	manyJobs  = 2000
	tidyAfter = 5 * time.Second
)

// trusted refuses rules by which another user could run commands as this one.
func (a *app) trusted(f *rule.File) error {
	loose := advice.LooseFiles(f)
	if a.trust || len(loose) == 0 {
		return nil
	}
	what := "and rules run commands"
	if !loose[0].Rules {
		what = "which the rules run"
	}
	return usage("%s can change %s, %s; remove that permission (chmod, chown), or use --trust-rules", loose[0].Who,
		a.shown(loose[0].Path), what)
}

// openEngine takes the ledger for watch and sweep.
func (a *app) openEngine(f *rule.File, l *lines, o engine.Options) (*engine.Engine, error) {
	if a.logFormat != logText && a.logFormat != logJSON {
		return nil, usage("--log-format is text or json, not %q", a.logFormat)
	}
	if err := a.trusted(f); err != nil {
		return nil, err
	}
	debug.SetGCPercent(collectAt)
	a.reserve = make([]byte, reserveSize)
	addProcessor(f)
	o.Rules, o.Report, o.Trouble, o.CaughtUp = f, l.report, a.ledgerNote, l.caughtUp
	o.Overdue = func(u engine.OverdueFile) {
		a.warn("%s is not ready for %s: %s", display(short(f.Base, u.File)), u.Rule, u.Why)
	}
	o.Notice = a.logNotice
	o.Said = func(sentence string) { a.warn("%s", ink.Clean(sentence)) }
	o.Folders = func(ev watchfs.Event) {
		if ev.Kind != watchfs.Present || l.begun.Load() {
			a.folderNote(f, ev)
		}
	}
	e, err := engine.Open(o)
	if errors.Is(err, ledger.ErrBusy) {
		who := ""
		if live, liveErr := control.Dial(f.StateFolder()).Live(); liveErr == nil {
			who = fmt.Sprintf(" (process %d, since %s)", live.PID, clock(live.Started, time.Now()))
		}
		return nil, &exitError{exitBusy,
			fmt.Sprintf("another watcher%s holds this ledger, %s; end it first, or let it do the work", who,
				a.shown(f.StateFolder()))}
	}
	return e, err
}

// addProcessor gives Go's scheduler one processor more than it would have, if
// rules run commands: to start one holds a processor for as long as the kernel
// takes to make the process (vfork(2)), and all else would wait for it.
func addProcessor(f *rule.File) {
	if os.Getenv("GOMAXPROCS") == "" && slices.ContainsFunc(f.All(), (*rule.Rule).Runs) {
		runtime.GOMAXPROCS(runtime.GOMAXPROCS(0) + 1)
	}
}

// stuckAfter is how long the watcher's loop may take to answer before it
// counts as stuck.
const stuckAfter = 20 * time.Second

// untilSignal returns a context that ends with the first Ctrl-C or SIGTERM. A
// second signal ends the program at once, and the commands that it runs with it.
func (a *app) untilSignal() (context.Context, context.CancelFunc) {
	ctx, cancel := context.WithCancel(context.Background())
	signals, over := make(chan os.Signal, 2), make(chan struct{})
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM)
	go func() {
		for n := 0; n < 2; n++ {
			select {
			case <-signals:
				cancel()
			case <-over:
				return
			}
		}
		runner.EndAll()
		os.Exit(exitInterrupted)
	}()
	return ctx, sync.OnceFunc(func() {
		signal.Stop(signals)
		close(over)
		cancel()
	})
}

// exitInterrupted is the status of a program that a second Ctrl-C ended at once, as
// shells have it: 128 and the signal's number.
const exitInterrupted = 130

func (a *app) watch() (err error) {
	f, err := a.loadRules()
	if err != nil {
		return err
	}
	l := a.newLines(f)
	ready := func() {}
	l.tidy = time.AfterFunc(time.Hour, debug.FreeOSMemory)
	l.tidy.Stop()
	defer l.tidy.Stop()
	e, err := a.openEngine(f, l, engine.Options{Ready: func(s engine.Start) {
		l.begun.Store(true)
		a.readyNote(s)
		ready()
		l.tidy.Reset(time.Second) // what the start took is not needed again
	}})
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, e.Close()) }()
	if s, err := control.Serve(f.StateFolder(), e); err != nil {
		a.warn("%v; until that is fixed, other commands cannot reach this watcher", err)
	} else {
		defer s.Close()
	}
	if f.Listen.Set() {
		m, err := metrics.Serve(f.Listen.S, e)
		if err != nil {
			return err
		}
		defer m.Close()
		l.also = m.Ended
	}
	a.greet(f)
	manager := service.Connect()
	ready = func() { manager.Ready(plural(len(f.All()), "rule"), func() bool { return e.Alive(stuckAfter) }) }
	ctx, stop := a.untilSignal()
	defer stop()
	stopReload, err := a.reloadOnChange(f, e)
	if err != nil {
		return err
	}
	defer stopReload()
	context.AfterFunc(ctx, func() {
		a.note("stopping: nothing new starts; running jobs get %s (Ctrl-C once more stops them at once)",
			plan.Span(engine.StopAfter))
	})
	context.AfterFunc(ctx, func() { manager.Status("stopping; running jobs are allowed to finish") })
	stopProgress := a.showProgress(e, l, false)
	err = e.Run(ctx)
	stopProgress()
	manager.Stopping()
	if err != nil {
		return err
	}
	a.note("ended: %s", l.total())
	return nil
}

// greet says what is watched, so that silence afterwards does not worry anybody.
func (a *app) greet(f *rule.File) {
	folders := map[string]bool{}
	for _, r := range f.All() {
		for _, w := range r.Folders {
			folders[w] = true
		}
	}
	head := fmt.Sprintf("Still Tide %s: %s on %s. Rules: %s. Ledger: %s.", Version, plural(len(f.All()), "rule"),
		plural(len(folders), "folder"),
		a.shown(f.Path), a.shown(f.StateFolder()))
	if a.logFormat == logJSON {
		a.note("%s", head)
	}
	for _, loop := range advice.Loops(f) {
		a.note("%s; stilltide check says where", loop)
	}
	if a.logFormat == logJSON {
		return
	}
	fmt.Fprintln(a.err, head)
	wide := 0
	for _, r := range f.All() {
		wide = max(wide, min(ink.Width(r.Name.S), 20))
	}
	for _, r := range f.All() {
		var where []string
		for _, w := range r.Watch {
			where = append(where, display(short(f.Base, w.Absolute())))
		}
		match := "everything"
		if len(r.Match) > 0 {
			var m []string
			for _, t := range r.Match {
				m = append(m, t.S)
			}
			match = strings.Join(m, ", ")
		}
		fmt.Fprintf(a.err, "  %s  %s in %s\n", a.styleErr.Bold(ink.Pad(ink.Cut(r.Name.S, 20), wide)),
			ink.Cut(ink.Clean(match), 40), ink.Cut(strings.Join(where, ", "), 36))
	}
	fmt.Fprintln(a.err, "Files that are there already are taken first. End with Ctrl-C.")
}

// readyNote says what the first look through the folders found.
func (a *app) readyNote(s engine.Start) {
	how := plural(s.Folders-s.Polled, "folder") + " watched by events"
	if s.Polled > 0 {
		how += fmt.Sprintf(", %d polled", s.Polled)
	}
	if s.Absent > 0 {
		how += fmt.Sprintf(", %d not there yet", s.Absent)
	}
	waiting := "nothing is left"
	switch {
	case s.Files > 0 && s.Jobs > 0:
		waiting = plural(s.Files, "file") + " to look at, " + plural(s.Jobs, "job") + " from before"
	case s.Files > 0:
		waiting = plural(s.Files, "file") + " to look at"
	case s.Jobs > 0:
		waiting = plural(s.Jobs, "job") + " from before"
	}
	a.note("ready: %s; %s", how, waiting)
}

func (a *app) sweep(only string) (err error) {
	f, err := a.loadRules()
	if err != nil {
		return err
	}
	if only != "" && !knowsRule(f, only) {
		return usage("there is no rule named %s in %s%s", only, a.shown(f.Path), didYouMean(only, ruleNames(f)))
	}
	l := a.newLines(f)
	e, err := a.openEngine(f, l, engine.Options{Once: true, Only: only})
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, e.Close()) }()
	ctx, stop := a.untilSignal()
	defer stop()
	stopProgress := a.showProgress(e, l, true)
	err = e.Run(ctx)
	stopProgress()
	if err != nil {
		return err
	}
	text := l.total()
	if n := e.Unsettled(); n > 0 {
		text += fmt.Sprintf("; %s not settled yet", plural(n, "file"))
	}
	if a.logFormat == logJSON {
		a.note("ended: %s", text)
	} else {
		fmt.Fprintf(a.err, "%s.\n", text)
	}
	if l.count[ledger.Failed] > 0 {
		return &exitError{status: exitFound}
	}
	return nil
}

// total sums up what was reported.
func (l *lines) total() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	text := counts(l.count)
	if text == "" {
		return "no job"
	}
	all := 0
	for state, n := range l.count {
		if state != ledger.Retrying {
			all += n
		}
	}
	return plural(all, "job") + ": " + text
}

// counts lists how many jobs are in which state.
func counts(count map[ledger.State]int) string {
	var parts []string
	for _, s := range ledger.States {
		switch n := count[s]; {
		case n == 0:
		case s == ledger.Retrying:
			parts = append(parts, plural(n, "attempt")+" failed and will be retried")
		default:
			parts = append(parts, fmt.Sprintf("%d %s", n, s))
		}
	}
	return strings.Join(parts, ", ")
}
