package act

import (
	"fmt"

	"github.com/spf13/cobra"

	"stilltide/internal/byhand"
	"stilltide/internal/cli/console"
	"stilltide/internal/control"
	"stilltide/internal/core/job"
	"stilltide/internal/ledger"
)

func (a *app) dismissCommand() *cobra.Command {
	var all bool
	var ruleName string
	c := &cobra.Command{
		Use: "dismiss ID … | --all | --rule NAME", Short: "Failures that are seen no longer stand in the headline",
		Args: cobra.ArbitraryArgs,
		Long: `Takes failed jobs off the first line of status. Nothing else changes: their inputs stay where
they are, and stilltide jobs --state failed goes on listing them. A job that is retried and
fails once more is a new failure.`,
		RunE: func(_ *cobra.Command, args []string) error { return a.dismiss(args, all, ruleName) },
	}
	c.Flags().BoolVar(&all, "all", false, "all failures")
	c.Flags().StringVar(&ruleName, "rule", "", "the failures of this `RULE`")
	return a.JSONFlag(c)
}

func (a *app) dismiss(args []string, all bool, ruleName string) error {
	f, _, err := a.ReadRules()
	if err != nil {
		return err
	}
	if (len(args) > 0) == (all || ruleName != "") {
		return console.Usage("name the jobs by their numbers, or their rule with --rule, or all with --all")
	}
	if ruleName != "" && !console.KnowsRule(f, ruleName) {
		return a.NoRule(f, ruleName)
	}
	ids, err := console.JobNumbers(args)
	if err == nil && len(args) == 0 {
		ids, err = a.undismissed(ruleName)
	}
	if err != nil {
		return err
	}
	if len(ids) == 0 {
		fmt.Fprintln(a.Err, "There is no failure to dismiss.")
		return nil
	}
	sent, err := console.ViaWatcher(f, ids, (*control.Client).Dismiss, func(l *ledger.Ledger,
		id int64) byhand.Sent {
		return byhand.Dismiss(l, id)
	})
	if err != nil {
		return err
	}
	return a.printSent(sent)
}

// undismissed lists the failures of a rule, or of all, that nobody has dismissed.
func (a *app) undismissed(ruleName string) (ids []int64, err error) {
	_, l, err := a.LedgerFor()
	if err != nil || l == nil {
		return nil, err
	}
	defer l.Close()
	list, err := l.Jobs(job.Filter{Rule: ruleName, States: []job.State{job.Failed}, Undismissed: true})
	for _, j := range list {
		ids = append(ids, j.ID)
	}
	return ids, err
}
