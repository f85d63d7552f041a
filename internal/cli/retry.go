package cli

import (
	"github.com/spf13/cobra"

	"stilltide/internal/byhand"
	"stilltide/internal/control"
	"stilltide/internal/core/job"
	"stilltide/internal/ledger"
)

func (a *app) retryCommand() *cobra.Command {
	var failed bool
	var ruleName string
	c := &cobra.Command{
		Use: "retry ID … | --failed", Short: "Retry failed jobs: put their inputs back and queue them again",
		Args: cobra.ArbitraryArgs,
		RunE: func(_ *cobra.Command, args []string) error { return a.retry(args, failed, ruleName) },
	}
	c.Flags().BoolVar(&failed, "failed", false, "all failed jobs whose input is still there")
	c.Flags().StringVar(&ruleName, "rule", "", "with --failed: only those of this `RULE`")
	return a.jsonFlag(c)
}

func (a *app) retry(args []string, failed bool, ruleName string) error {
	f, _, err := a.readRules()
	if err != nil {
		return err
	}
	ids, err := a.retryIDs(args, failed, ruleName)
	if err != nil {
		return err
	}
	sent, err := viaWatcher(f.StateFolder(), ids, (*control.Client).Retry, byhand.Retry)
	if err != nil {
		return err
	}
	return a.printSent(sent)
}

func (a *app) retryIDs(args []string, failed bool, ruleName string) ([]int64, error) {
	if failed == (len(args) > 0) {
		return nil, usage("name the jobs by their numbers, or all failed ones with --failed")
	}
	if !failed {
		return jobNumbers(args)
	}
	var ids []int64
	_, l, err := a.ledgerFor()
	if err != nil || l == nil {
		return nil, err
	}
	defer l.Close()
	list, err := l.Jobs(ledger.Filter{Rule: ruleName, States: []job.State{job.Failed}, Oldest: true})
	if err == nil {
		err = l.NowIn(list)
	}
	for _, j := range list {
		if j.FileNow != "" {
			ids = append(ids, j.ID)
		}
	}
	return ids, err
}
