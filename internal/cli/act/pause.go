package act

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"stilltide/internal/byhand"
	"stilltide/internal/cli/console"
	"stilltide/internal/control"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
)

func (a *app) pauseCommand() *cobra.Command {
	var folders []string
	var long string
	c := &cobra.Command{
		Use: "pause [RULE …]", Short: "Pause rules, folders, or all: files are still taken, but nothing starts",
		Args: cobra.ArbitraryArgs,
		Long: `A paused rule keeps taking files and holds them; running jobs finish. With --folder only what
lies in that folder, or below, is held, whatever rule takes it. It stays paused until resume,
even across a restart; with --for it goes on by itself.`,
		RunE: func(_ *cobra.Command, args []string) error { return a.pause(args, folders, long) },
	}
	c.Flags().StringArrayVar(&folders, "folder", nil, "pause what lies in this `PATH`; may be given several times")
	c.Flags().StringVar(&long, "for", "", "go on by itself after this `TIME`, such as 30m or 8h")
	return c
}

func (a *app) resumeCommand() *cobra.Command {
	var folders []string
	c := &cobra.Command{
		Use: "resume [RULE …]", Short: "Resume paused rules and folders, or all; unblocks blocked rules, too",
		Args: cobra.ArbitraryArgs,
		Long: `Resumes paused rules, or folders. For a blocked rule it confirms that things are as they should
be: removals are accepted, a loop may continue, and a folder whose disk is not mounted is used
as it is. Without a watcher the next sweep or watch accepts the removals that it finds, if it
starts within a day; a folder whose disk is not mounted waits for a watcher.`,
		RunE: func(_ *cobra.Command, args []string) error { return a.resume(args, folders) },
	}
	c.Flags().StringArrayVar(&folders, "folder", nil, "resume what lies in this `PATH`; may be given several times")
	return c
}

func (a *app) pause(names, folders []string, long string) error {
	var until time.Time
	if long != "" {
		d, err := rule.ParseDuration(long)
		if err != nil || d <= 0 {
			return console.Usage("--for: %q is not a time; write a number with its unit, such as 30m or 8h", long)
		}
		until = time.Now().Add(d)
	}
	what, _, err := a.setPaused(names, folders, true, until)
	if err != nil {
		return err
	}
	word := "stilltide resume lets go on"
	if !until.IsZero() {
		word = "until " + plan.Clock(until, time.Now())
	}
	fmt.Fprintf(a.Err, "%s: paused; %s.\n", what, word)
	return nil
}

func (a *app) resume(names, folders []string) error {
	what, accepted, err := a.setPaused(names, folders, false, time.Time{})
	switch {
	case err == nil && accepted:
		fmt.Fprintf(a.Err, "%s: go on. The next sweep or watch accepts what it finds missing, if it starts within a "+
			"day.\n", what)
	case err == nil:
		fmt.Fprintf(a.Err, "%s: go on.\n", what)
	}
	return err
}

// setPaused pauses rules and folders, or lets them go on, and says which. accepted: see byhand.Resume.
func (a *app) setPaused(names, folders []string, paused bool, until time.Time) (what string, accepted bool, err error) {
	f, diags, err := a.ReadRules()
	if err != nil {
		return "", false, err
	}
	if _, err := a.Watcher(f); err != nil {
		return "", false, err
	}
	shown := append([]string(nil), names...)
	for _, name := range names {
		if !diags.Failed() && !console.KnowsRule(f, name) {
			return "", false, a.NoRule(f, name)
		}
	}
	for _, folder := range folders {
		path := console.At(f, folder)
		if paused && !diags.Failed() && !console.Watched(f, path) {
			return "", false, console.Usage("no rule watches %s, nor anything below; stilltide rules shows what they "+
				"watch", folder)
		}
		names, shown = append(names, path), append(shown, console.Display(console.Short(f.Base, path)))
	}
	err = console.WhileTaken(func() error {
		err := control.Dial(f.StateFolder()).Pause(names, paused, until)
		switch {
		case !errors.Is(err, control.ErrNobody):
		case paused:
			err = byhand.Pause(f, names, until)
		default:
			accepted, err = byhand.Resume(f, names)
		}
		return err
	})
	if len(shown) == 0 {
		return "all rules", accepted, err
	}
	return strings.Join(shown, ", "), accepted, err
}
