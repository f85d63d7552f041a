package foresee

import (
	"errors"
	"fmt"
	"os"
	"time"

	"github.com/spf13/cobra"

	"stilltide/internal/advice"
	"stilltide/internal/cli/console"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/look"
	"stilltide/internal/work"
)

func (a *app) tryCommand() *cobra.Command {
	var name string
	var inPlace bool
	c := &cobra.Command{
		Use: "try FILE", Short: "Run the rule's commands on a copy of a file, and show everything; moves nothing",
		Args: cobra.ExactArgs(1),
		Long: `Runs the rule's commands on a copy of the file in a temporary folder, and prints each command
line, its output and how it ended. Nothing is moved or recorded; whatever the commands write
elsewhere is real. The exit status is 1 if a step fails.`,
		RunE: func(_ *cobra.Command, args []string) error { return a.try(args[0], name, inPlace) },
	}
	c.Flags().StringVar(&name, "rule", "", "try this `RULE`, whether or not it takes the file")
	c.Flags().BoolVar(&inPlace, "in-place", false, "run the commands on the real file")
	return c
}

func (a *app) try(path, name string, inPlace bool) (err error) {
	f, err := a.LoadRules()
	if err != nil {
		return err
	}
	path = console.At(f, path)
	set := look.NewSet(f)
	r, err := a.ruleToTry(f, set, path, name)
	if err != nil {
		return err
	}
	folder, err := os.MkdirTemp("", "stilltide-try-")
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, os.RemoveAll(folder)) }()
	ctx, stop := a.UntilSignal()
	defer stop()
	fmt.Fprintf(a.Err, "The rule %s on %s:\n", r.Name.S, console.Display(console.Short(f.Base, path)))
	ok, fileNow, err := work.Trial{Set: set, Rule: r, File: path, InPlace: inPlace, Folder: folder,
		Out: a.Out}.Try(ctx)
	if r.Runs() && !inPlace {
		fmt.Fprintln(a.Err, "The commands ran on a copy in a folder that has been removed. Whatever they wrote "+
			"to paths of their own is real; --in-place runs them on the file itself.")
	}
	if r.Travels() {
		fmt.Fprintf(a.Err, "The commands ran on this machine; the watcher has them run on a machine of the pool %s.\n",
			r.Pool.S)
	}
	switch {
	case err != nil:
		return console.Found(err.Error())
	case !ok:
		return console.Found("the step failed, so the attempt would end here; nothing was moved")
	case fileNow == path:
		fmt.Fprintln(a.Err, "All steps succeed; the file would stay where it is. Nothing was moved.")
	default:
		fmt.Fprintf(a.Err, "All steps succeed; the file would end in %s. Nothing was moved.\n",
			console.Display(console.Short(f.Base, fileNow)))
	}
	return nil
}

// ruleToTry is the named rule, or the one that takes the file.
func (a *app) ruleToTry(f *rule.File, set *plan.Set, path, name string) (*rule.Rule, error) {
	if name != "" {
		if r := set.Rule(name); r != nil {
			return r, nil
		}
		return nil, a.NoRule(f, name)
	}
	w, err := advice.Explain(set, nil, path, false, time.Now())
	if err != nil {
		return nil, err
	}
	if w.Taker == nil {
		return nil, console.Found(fmt.Sprintf("no rule takes %s; stilltide why says why, --rule NAME tries one anyway",
			console.Display(path)))
	}
	return w.Taker, nil
}
