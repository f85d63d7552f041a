package act

import (
	"fmt"

	"github.com/spf13/cobra"

	"stilltide/internal/byhand"
	"stilltide/internal/cli/console"
	"stilltide/internal/control"
	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/ledger"
	"stilltide/internal/look"
)

func (a *app) undoCommand() *cobra.Command {
	var by chosen
	c := &cobra.Command{
		Use: "undo ID … | --rule RULE …", Short: "Undo jobs: put back what they placed, as long as it is unchanged",
		Args: cobra.ArbitraryArgs,
		Long: `Puts back everything that a job moved, renamed, replaced, discarded or made, newest first:
all of it or nothing. If a placed file has changed since, or a later job took it, nothing is
touched and the obstacles are listed. The input counts as handled until it changes;
stilltide retry runs the job again. Of several jobs, the one that placed something last goes first.

The jobs are those with the given numbers, or those that --rule, --file, --since and --last
choose and that placed something; on a terminal these are shown first, and it asks.`,
		RunE: func(_ *cobra.Command, args []string) error { return a.undo(args, by) },
	}
	choose(c, &by)
	return a.JSONFlag(c)
}

func (a *app) undo(args []string, by chosen) error {
	f, _, err := a.ReadRules()
	if err != nil {
		return err
	}
	placed := map[int64]int{} // how much there is to take back, by job
	something := func(l *ledger.Ledger, j job.Job) (bool, error) {
		all, err := l.Placements(j.ID)
		placed[j.ID] = len(byhand.Undoable(all))
		return placed[j.ID] > 0, err
	}
	list, err := a.find(f, args, by, []job.State{job.Processed, job.Failed, job.Skipped, job.Cancelled}, something)
	if err != nil {
		return err
	}
	if len(list) == 0 {
		fmt.Fprintln(a.Err, "No matching job that placed something.")
		return nil
	}
	if len(args) == 0 && !a.sure(f, list, by, "Undo", "TAKES BACK", func(j job.Job) string {
		return plan.Plural(placed[j.ID], "placement")
	}) {
		return nil
	}
	newest, err := a.newest(f, list)
	if err != nil {
		return err
	}
	set := look.NewSet(f)
	sent, err := byhand.UndoEach(idsOf(list), newest, func(ids []int64) ([]byhand.Sent, error) {
		return console.ViaWatcher(f, ids, (*control.Client).Undo,
			func(l *ledger.Ledger, id int64) byhand.Sent { return byhand.Undo(l, set, id) })
	})
	if err != nil {
		return err
	}
	return a.printSent(sent)
}

// newest says in which order jobs are undone (see byhand.Newest).
func (a *app) newest(f *rule.File, list []job.Job) (map[int64]int64, error) {
	l, err := a.ReadLedger(f)
	if err != nil || l == nil {
		return nil, err
	}
	defer l.Close()
	return byhand.Newest(l, idsOf(list))
}
