package atwork

import (
	"context"
	"errors"
	"fmt"
	"os"
	"runtime"
	"runtime/debug"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"stilltide/internal/advice"
	"stilltide/internal/byhand"
	"stilltide/internal/cli/console"
	"stilltide/internal/cli/foresee"
	"stilltide/internal/control"
	"stilltide/internal/core/diag"
	"stilltide/internal/core/notice"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/core/turn"
	"stilltide/internal/engine"
	"stilltide/internal/ink"
	"stilltide/internal/ledger"
	"stilltide/internal/metrics"
	"stilltide/internal/notify"
	"stilltide/internal/service"
	"stilltide/internal/standing"
	"stilltide/internal/watcher"
	"stilltide/internal/watchfs"
)

func (a *app) watchCommand() *cobra.Command {
	next := false
	c := a.trustFlag(&cobra.Command{
		Use: "watch", Short: "Watch the folders and process what arrives, until stopped",
		Long: `Watches the folders of all rules in the foreground: a line for each job on standard output,
everything else on standard error. Ctrl-C, SIGTERM or closing the terminal ends it: nothing new
starts, running jobs get 30 seconds, the rest stays queued in the ledger for the next start.

With --next it takes the next file that arrives, whatever lies there already, shows everything
about it as it happens, and ends: the test run of a new rule.`,
		RunE: func(*cobra.Command, []string) error {
			if next {
				return a.watchNext()
			}
			return a.watch()
		},
	})
	c.Flags().BoolVar(&a.beside, "beside", false,
		"another machine's watcher works on a shared folder, too, and that is wanted")
	c.Flags().BoolVar(&next, "next", false, "take the next file that arrives, show everything about it, and end")
	return c
}

// trustFlag adds --trust-rules, --log-format and --json.
func (a *app) trustFlag(c *cobra.Command) *cobra.Command {
	c.Flags().BoolVar(&a.trust, "trust-rules", false, "use rules that another user can change")
	c.Flags().StringVar(&a.LogFormat, "log-format", console.LogText,
		"the `FORMAT` of what it says: text, or json for machines (log/slog)")
	return a.JSONFlag(c)
}

func (a *app) folderNote(f *rule.File, ev watchfs.Event) {
	path := console.Display(console.Short(f.Base, ev.Path))
	switch silent := errors.Is(ev.Err, watchfs.ErrSilent); {
	case silent && ev.Kind == watchfs.Trouble:
		a.Alarm("blocked: %s does not answer; its rules wait, and others go on", path)
		return
	case silent && ev.Kind == watchfs.Recovered:
		a.Note("%s answers again", path)
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
		a.Note("the folder %s is not there%s; waiting for it", path, why)
	case watchfs.Present:
		a.Note("watching %s", path)
	case watchfs.Polled:
		a.Note("%s is polled every %s: %v", path, plan.Span(f.PollEvery()), ev.Err)
	case watchfs.Recovered:
		a.Note("%s is watched by events again", path)
	case watchfs.Trouble:
		a.Alarm("%s cannot be watched: %v", path, ev.Err)
	}
}

func (a *app) logNotice(ev notice.Event) {
	a.Note("notice: %s", ink.Clean(notify.One(rule.LogChannel, ev).Text))
}

func (a *app) ledgerNote(err error) {
	if err == nil {
		a.Note("the ledger can be written again; going on")
		return
	}
	a.Alarm("%v; nothing starts until it can be", err)
}

// The garbage collector comes when the memory is eleven times what is in use, but not before it
// is 40 MiB (runtime/debug.SetGCPercent): little is in use, so that it would else come every few
// hundred files of a burst. What a long burst takes is bounded by spareMemory above what the program
// takes with its rules (runtime/debug.SetMemoryLimit), and given back afterwards.
const (
	collectAt   = 1000
	spareMemory = 70 << 20
)

// readMemory bounds what reading the rules takes, as far as it can: thousands of them leave much
// that is not needed again.
const readMemory = 64 << 20

// tuneMemory tells the garbage collector so, when the rules are read.
func tuneMemory() {
	var m runtime.MemStats
	if runtime.ReadMemStats(&m); m.HeapAlloc > readMemory/2 {
		runtime.GC()
		runtime.ReadMemStats(&m)
	}
	debug.SetGCPercent(collectAt)
	debug.SetMemoryLimit(int64(m.HeapAlloc) + spareMemory)
}

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
	return console.Usage("%s can change %s, %s; remove that permission (chmod, chown), or use --trust-rules",
		loose[0].Who,
		a.Shown(loose[0].Path), what)
}

// openEngine takes the ledger for watch and sweep.
func (a *app) openEngine(f *rule.File, l *lines, o engine.Options) (*engine.Engine, error) {
	if a.LogFormat != console.LogText && a.LogFormat != console.LogJSON {
		return nil, console.Usage("--log-format is text or json, not %q", a.LogFormat)
	}
	if err := a.trusted(f); err != nil {
		return nil, err
	}
	tuneMemory()
	addProcessor(f)
	o.Version, o.Lacking, o.Starts = console.Version, advice.Lacking(f), true
	o.Rules, o.Report, o.Trouble, o.CaughtUp = f, l.report, a.ledgerNote, l.caughtUp
	o.Overdue = func(u turn.OverdueFile) {
		a.Warn("%s is not ready for %s: %s", console.Display(console.Short(f.Base, u.File)), u.Rule, u.Why)
	}
	o.Notice = a.logNotice
	o.Said = func(sentence string) { a.Warn("%s", ink.Clean(sentence)) }
	o.Folders = func(ev watchfs.Event) {
		if ev.Kind != watchfs.Present || l.begun.Load() {
			a.folderNote(f, ev)
		}
	}
	var e *engine.Engine
	err := console.WhileTaken(func() (err error) {
		if e, err = engine.Open(o); !errors.Is(err, ledger.ErrBusy) {
			return err
		}
		live, other := a.Watcher(f)
		switch {
		case other != nil:
			return other
		case live != nil:
			return a.taken(f, fmt.Sprintf(" (process %d, since %s)", live.PID,
				plan.Clock(live.Started, time.Now())))
		}
		return err
	})
	var others *byhand.OthersWait
	switch {
	case errors.As(err, &others):
		err = console.Usage("%s: %s", a.OthersWait(f, others), a.OwnState(f))
	case errors.Is(err, ledger.ErrBusy):
		err = a.taken(f, "")
	}
	return e, err
}

// taken says that somebody else holds the ledger; who is what is known of that.
func (a *app) taken(f *rule.File, who string) error {
	return &console.ExitError{Status: console.ExitBusy,
		Text: fmt.Sprintf("another watcher%s holds this ledger, %s; end it first, or let it do the "+
			"work", who, a.Shown(f.StateFolder()))}
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

func (a *app) watch() (err error) {
	debug.SetMemoryLimit(readMemory)
	f, err := a.LoadRules()
	if err != nil {
		return err
	}
	l := a.newLines(f)
	ready := func() {}
	l.tidy = time.AfterFunc(time.Hour, debug.FreeOSMemory)
	l.tidy.Stop()
	defer l.tidy.Stop()
	e, err := a.openEngine(f, l, engine.Options{Ready: func(s watcher.Start) {
		l.begun.Store(true)
		a.readyNote(s)
		ready()
		l.tidy.Reset(time.Second) // what the start took is not needed again
	}})
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, e.Close()) }()
	release, err := a.claimShares(f, a.beside)
	if err != nil {
		return err
	}
	defer release()
	ctx, stop := a.AtWork(false) // before anybody can find this watcher
	defer stop()
	stopServing, err := a.serve(f, e, l)
	if err != nil {
		return err
	}
	defer stopServing()
	s, err := a.before(f)
	if err != nil {
		return err
	}
	a.greet(f, s)
	manager := service.Connect()
	ready = func() { manager.Ready(plan.Plural(len(f.All()), "rule"), func() bool { return e.Alive(stuckAfter) }) }
	stopReload, err := a.reloadOnChange(f, e)
	if err != nil {
		return err
	}
	defer stopReload()
	context.AfterFunc(ctx, func() {
		a.Note("stopping: nothing new starts; running jobs get %s (Ctrl-C once more stops them at once)",
			plan.Span(e.StopAfter()))
	})
	context.AfterFunc(ctx, func() { manager.Ending("stopping; running jobs are allowed to finish", e.StopAfter()) })
	stopProgress := a.showProgress(e, l, false)
	err = e.Run(ctx)
	stopProgress()
	manager.Stopping()
	if err != nil {
		return err
	}
	return a.farewell(f, e, l)
}

// serve opens the socket for other commands, and what the rules say of listening. The
// returned function ends both.
func (a *app) serve(f *rule.File, e *engine.Engine, l *lines) (stop func(), err error) {
	var ends []func()
	if s, err := control.Serve(f.StateFolder(), e); err != nil {
		a.Warn("%v; until that is fixed, other commands cannot reach this watcher", err)
	} else {
		ends = append(ends, s.Close)
	}
	stop = func() {
		for _, end := range ends {
			end()
		}
	}
	if !f.Listen.Set() {
		return stop, nil
	}
	m, err := metrics.Serve(f.Listen.S, e)
	if err != nil {
		stop()
		return nil, err
	}
	l.also = m.Ended
	ends = append(ends, m.Close)
	return stop, nil
}

// farewell sums up what was done, and what waits.
func (a *app) farewell(f *rule.File, e *engine.Engine, l *lines) error {
	left, _, err := a.leftOver(f, e)
	if err == nil {
		a.Note("ended: %s", strings.Join(append([]string{l.total()}, left...), "; "))
	}
	return err
}

// leftOver says what waits when the work has ended, and for what.
func (a *app) leftOver(f *rule.File, e *engine.Engine) (texts []string, blocked bool, err error) {
	left, err := e.Left()
	if err != nil {
		return nil, false, err
	}
	if n := left.Unsettled; n > 0 {
		texts = append(texts, plan.Plural(n, "file")+" not settled yet")
	}
	if n := left.Begun; n > 0 {
		texts = append(texts, plan.Plural(n, "job")+" left for the next sweep, or for watch")
	}
	return append(texts, standing.Left(f, left, time.Now())...), len(left.Blocked) > 0, nil
}

// before is how the rules stand in the ledger, before any work.
func (a *app) before(f *rule.File) (standing.Standing, error) {
	l, err := ledger.Read(f.StateFolder())
	if err != nil {
		return standing.Standing{}, err
	}
	defer l.Close()
	return a.Standing(f, nil, l, nil)
}

// greet says what is watched, so that silence afterwards does not worry anybody.
func (a *app) greet(f *rule.File, s standing.Standing) {
	head := fmt.Sprintf("Still Tide %s: %s on %s. Rules: %s. Ledger: %s.", console.Version, plan.Plural(len(f.All()),
		"rule"),
		plan.Plural(foresee.WatchedFolders(f), "folder"),
		a.Shown(f.Path), a.Shown(f.StateFolder()))
	if a.LogFormat == console.LogJSON {
		a.Note("%s", head)
	}
	if a.LogFormat == console.LogJSON {
		a.doubts(f)
		return
	}
	a.Filled(a.Err, 2, head)
	a.Board.Print(a.Err, a.list(f, s))
	a.doubts(f)
	a.Board.Print(a.Err, "Files that are there already are taken first. End with Ctrl-C.\n")
}

// list says of each rule what it takes, and where.
func (a *app) list(f *rule.File, s standing.Standing) string {
	var all strings.Builder
	wide := 0
	for _, r := range f.All() {
		wide = max(wide, min(ink.Width(r.Name.S), 20))
	}
	for i, r := range f.All() {
		name := a.StyleErr.Bold(ink.Pad(ink.Cut(r.Name.S, 20), wide))
		text := ink.Clean(plan.Takes(r)) + " in " + foresee.WatchedBy(f, r)
		if rests := atRest(s.Rules[i]); rests != "" {
			text = rests + ": " + text
		}
		fmt.Fprintf(&all, "  %s  %s\n", name, ink.Block(text, a.Width(a.Err), wide+4))
	}
	return all.String()
}

// maxDoubts bounds the doubts that a start repeats.
const maxDoubts = 10

// doubts repeats at the start what check warns of, but for what the watcher says by itself: a
// folder that is not there, a program without which a rule is blocked.
func (a *app) doubts(f *rule.File) {
	a.WarnOfForgotten(f)
	list := slices.DeleteFunc(append(slices.Clone(a.Warnings), advice.Doubts(f)...), func(d diag.Diagnostic) bool {
		return d.Code == "folder-absent" || d.Code == "program"
	})
	list.Sort()
	for i, d := range list {
		if i == maxDoubts {
			a.Warn("%d more warnings; stilltide check shows all", len(list)-maxDoubts)
			return
		}
		a.Warn("%s:%d: %s", a.Shown(d.File), d.Line, ink.Clean(d.Message))
	}
}

// atRest says that a rule does nothing for now, and how much it holds.
func atRest(r standing.Rule) string {
	switch {
	case r.State == standing.Disabled:
		return "disabled"
	case r.State == standing.Paused && r.Held > 0:
		return fmt.Sprintf("paused, %s held", plan.Plural(r.Held, "file"))
	case r.State == standing.Paused:
		return "paused"
	}
	return ""
}

// readyNote says what the first look through the folders found.
func (a *app) readyNote(s watcher.Start) {
	how := plan.Plural(s.Folders-s.Polled, "folder") + " watched by events"
	if s.Polled > 0 {
		how += fmt.Sprintf(", %s polled", plan.Number(s.Polled))
	}
	if s.Absent > 0 {
		how += fmt.Sprintf(", %s not there yet", plan.Number(s.Absent))
	}
	waiting := "nothing is left"
	switch {
	case s.Files > 0 && s.Jobs > 0:
		waiting = plan.Plural(s.Files, "file") + " to look at, " + plan.Plural(s.Jobs, "job") + " from before"
	case s.Files > 0:
		waiting = plan.Plural(s.Files, "file") + " to look at"
	case s.Jobs > 0:
		waiting = plan.Plural(s.Jobs, "job") + " from before"
	}
	a.Note("ready: %s; %s", how, waiting)
}
