package atwork

import (
	"errors"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"stilltide/internal/cli/console"
	"stilltide/internal/control"
	"stilltide/internal/core/fill"
	"stilltide/internal/core/job"
	"stilltide/internal/core/rule"
	"stilltide/internal/core/turn"
	"stilltide/internal/engine"
)

func (a *app) sweepCommand() *cobra.Command {
	var rules []string
	var since string
	var again bool
	c := a.trustFlag(&cobra.Command{
		Use: "sweep [PATH …]", Short: "Process what is in the folders now, then exit",
		Args: cobra.ArbitraryArgs,
		Long: `Handles the files that are there now, then exits: all, or those that PATH names and what lies
below. Each job is attempted once; jobs that must be retried, files that a program still
writes, and jobs that wait for their rule's schedule are left to the next watch or sweep. The
exit status is 1 if a job failed.

With --rule only the files of these rules are handled, whatever their schedule says. With
--again files are handled again that were handled before. Beside a running watcher it is the
watcher that does it, and its jobs are followed to their end.`,
		RunE: func(_ *cobra.Command, args []string) error { return a.sweep(args, rules, since, again) },
	})
	c.Flags().StringArrayVar(&rules, "rule", nil, "only the files of this `RULE`; may be given several times")
	c.Flags().StringVar(&since, "changed-since", "",
		"only files that changed in the last `TIME` (2h, 7d) or since a date (2031-04-02)")
	c.Flags().BoolVar(&again, "again", false, "handle what was handled before, too")
	return c
}

// chosenBy reads what a sweep is to work on.
func (a *app) chosenBy(f *rule.File, paths, rules []string, since string, again bool) (turn.Chosen, error) {
	c := turn.Chosen{Rules: rules, Again: again}
	for _, name := range rules {
		if !console.KnowsRule(f, name) {
			return c, a.NoRule(f, name)
		}
	}
	for _, arg := range paths {
		path := console.At(f, arg)
		if !console.Watched(f, path) {
			return c, console.Usage("no rule watches %s, nor anything below; stilltide rules shows what they watch",
				arg)
		}
		c.Paths = append(c.Paths, path)
	}
	if since == "" {
		return c, nil
	}
	if d, err := rule.ParseDuration(since); err == nil {
		c.Since = time.Now().Add(-d)
	} else if at, ok := fill.ParseDate(since); ok {
		c.Since = at
	} else {
		return c, console.Usage("--changed-since: %q is neither a time nor a date; write it as 2h, 7d or 2031-04-02",
			since)
	}
	return c, nil
}

func (a *app) sweep(paths, rules []string, since string, again bool) error {
	f, err := a.LoadRules()
	if err != nil {
		return err
	}
	chosen, err := a.chosenBy(f, paths, rules, since, again)
	if err != nil {
		return err
	}
	if a.Running(f) != nil {
		return a.sweepBeside(f, chosen)
	}
	return a.sweepAlone(f, chosen)
}

// sweepBeside has the running watcher do it, and follows.
func (a *app) sweepBeside(f *rule.File, chosen turn.Chosen) error {
	l := a.newLines(f)
	ctx, stop := a.UntilSignal()
	defer stop()
	a.Note("a watcher is at work here, so it does this; Ctrl-C ends the following of it alone")
	if err := control.Dial(f.StateFolder()).Sweep(ctx, chosen, l.report); err != nil && ctx.Err() == nil {
		return err
	}
	a.swept(l, nil)
	return l.status(false)
}

// sweepAlone does it while no watcher runs.
func (a *app) sweepAlone(f *rule.File, chosen turn.Chosen) (err error) {
	l := a.newLines(f)
	e, err := a.openEngine(f, l, engine.Options{Once: true, Chosen: chosen})
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, e.Close()) }()
	ctx, stop := a.AtWork(true)
	defer stop()
	a.WarnOfForgotten(f)
	stopProgress := a.showProgress(e, l, true)
	err = e.Run(ctx)
	stopProgress()
	if err != nil {
		return err
	}
	left, blocked, err := a.leftOver(f, e)
	if err != nil {
		return err
	}
	a.swept(l, left)
	return l.status(blocked)
}

// swept sums a sweep up; left says what waits.
func (a *app) swept(l *lines, left []string) {
	text := strings.Join(append([]string{l.total()}, left...), "; ")
	if a.LogFormat == console.LogJSON {
		a.Note("ended: %s", text)
		return
	}
	a.Filled(a.Err, 2, text+".")
}

// status is how a sweep ends; blocked tells that a rule is.
func (l *lines) status(blocked bool) error {
	if blocked || l.count[job.Failed]+l.count[job.Retrying]+len(l.hindered) > 0 {
		return &console.ExitError{Status: console.ExitFound}
	}
	return nil
}
