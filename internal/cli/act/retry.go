package act

import (
	"fmt"
	"path/filepath"
	"slices"

	"github.com/spf13/cobra"

	"stilltide/internal/cli/console"
	"stilltide/internal/control"
	"stilltide/internal/core/job"
	"stilltide/internal/ledger"
)

func (a *app) retryCommand() *cobra.Command {
	var by chosen
	c := &cobra.Command{
		Use: "retry ID … | --failed | --rule RULE …", Short: "Retry jobs: put their inputs back and queue them again",
		Args: cobra.ArbitraryArgs,
		Long: `Puts the inputs of jobs that are over back where they came from, and queues the jobs again:
those with the given numbers, all failed ones whose input is still there (--failed), or those
that --rule, --file, --since and --last choose, failed or not. On a terminal it shows first
what it would do with jobs that were chosen, or that have succeeded, and asks.`,
		RunE: func(_ *cobra.Command, args []string) error { return a.retry(args, by) },
	}
	c.Flags().BoolVar(&by.failed, "failed", false, "only failed jobs, whose input is still there")
	choose(c, &by)
	return a.JSONFlag(c)
}

func (a *app) retry(args []string, by chosen) error {
	f, diags, err := a.ReadRules()
	if err != nil {
		return err
	}
	states := []job.State{job.Failed}
	if !by.failed {
		states = slices.DeleteFunc(slices.Clone(job.States), func(s job.State) bool { return !s.Final() })
	}
	there := func(_ *ledger.Ledger, j job.Job) (bool, error) { return j.FileNow != "", nil }
	list, err := a.find(f, args, by, states, there)
	if err != nil {
		return err
	}
	if len(list) == 0 {
		fmt.Fprintln(a.Err, "No matching job whose input is still there.")
		return nil
	}
	well := slices.ContainsFunc(list, func(j job.Job) bool { return j.State == job.Processed })
	if (len(args) == 0 || well) && !a.sure(f, list, by, "Run again", "GOES BACK TO", func(j job.Job) string {
		return console.Display(console.Short(f.Base, filepath.Dir(j.File)))
	}) {
		return nil
	}
	sent, err := console.ViaWatcher(f, idsOf(list), (*control.Client).Retry, console.Retry(f, diags))
	if err != nil {
		return err
	}
	return a.printSent(sent)
}
