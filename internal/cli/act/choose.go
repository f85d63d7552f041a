package act

import (
	"fmt"
	"slices"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"stilltide/internal/cli/console"
	"stilltide/internal/cli/see"
	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/ledger"
)

// chosen are the jobs that a command acts on: by their numbers, or by what they have in common.
type chosen struct {
	failed            bool
	rule, file, since string
	last              int
	yes               bool
}

// choose gives a command the options by which jobs are chosen.
func choose(c *cobra.Command, by *chosen) {
	c.Flags().StringVar(&by.rule, "rule", "", "the jobs of this `RULE`")
	c.Long += "\n\n" + see.OfFileLong
	c.Flags().StringVar(&by.file, "file", "", "the jobs "+see.OfFile)
	c.Flags().StringVar(&by.since, "since", "", "the jobs of the last `TIME`, such as 2h or 7d")
	c.Flags().IntVar(&by.last, "last", 0, "of those, the newest `N`")
	c.Flags().BoolVar(&by.yes, "yes", false, "do not ask")
}

// common reports whether the jobs are chosen by what they have in common.
func (c chosen) common() bool {
	return c.failed || c.rule != "" || c.file != "" || c.since != "" || c.last != 0
}

// find lists the jobs that were chosen and that fit, in the order in which they are acted on:
// the oldest first.
func (a *app) find(f *rule.File, args []string, by chosen, states []job.State,
	fits func(*ledger.Ledger, job.Job) (bool, error)) ([]job.Job, error) {
	if by.common() == (len(args) > 0) {
		return nil,
			console.Usage("name the jobs by their numbers, or choose them by --rule, --file, --since or --last N")
	}
	if by.rule != "" && !console.KnowsRule(f, by.rule) {
		return nil, a.NoRule(f, by.rule)
	}
	if by.last < 0 {
		return nil, console.Usage("--last: %d jobs cannot be chosen; write how many", by.last)
	}
	ids, err := console.JobNumbers(args)
	if err != nil {
		return nil, err
	}
	l, err := a.ReadLedger(f)
	if err != nil || l == nil {
		return named(ids), err
	}
	defer l.Close()
	if len(ids) > 0 {
		return known(l, ids)
	}
	q, err := see.JobFilter{Rule: by.rule, File: by.file, Since: by.since}.Query(f, l)
	if err != nil {
		return nil, err
	}
	q.States = states
	list, err := l.Jobs(q)
	if err == nil {
		err = l.NowIn(list)
	}
	var found []job.Job
	for i := 0; err == nil && i < len(list) && (by.last == 0 || len(found) < by.last); i++ {
		var fit bool
		if fit, err = fits(l, list[i]); fit {
			found = append(found, list[i])
		}
	}
	slices.Reverse(found)
	return found, err
}

// named are jobs of which only the numbers are known.
func named(ids []int64) (list []job.Job) {
	for _, id := range ids {
		list = append(list, job.Job{ID: id})
	}
	return list
}

// known are the jobs with some numbers. One that is not there has its number only.
func known(l *ledger.Ledger, ids []int64) ([]job.Job, error) {
	list := named(ids)
	for i, id := range ids {
		rows, err := l.Jobs(job.Filter{ID: id})
		if err == nil {
			err = l.NowIn(rows)
		}
		if err != nil {
			return nil, err
		}
		if len(rows) == 1 {
			list[i] = rows[0]
		}
	}
	return list, nil
}

// sure shows what is about to be done with some jobs, on a terminal, and asks. Where nobody can
// be asked it is done.
func (a *app) sure(f *rule.File, list []job.Job, by chosen, verb, head string, what func(job.Job) string) bool {
	if by.yes || !a.CanAsk() {
		return true
	}
	now := time.Now()
	var rows [][]console.Cell
	for _, j := range list[:min(len(list), maxShown)] {
		rows = append(rows, []console.Cell{{Text: strconv.FormatInt(j.ID, 10), Right: true},
			{Text: plan.Clock(console.EndOf(j), now)}, {Text: j.Rule}, {Text: console.JobName(j), Name: true},
			{Text: string(j.State), Whole: true, Paint: func(t string) string { return a.Style.State(j.State, t) }},
			{Text: console.WhereNow(f, j)}, {Text: what(j)}})
	}
	a.Table([]string{"JOB", "TIME", "RULE", "FILE", "STATE", "NOW IN", head}, rows)
	if more := len(list) - maxShown; more > 0 {
		fmt.Fprintf(a.Out, "and %s more\n", plan.Number(more))
	}
	return a.Agreed(fmt.Sprintf("%s %s?", verb, plan.Plural(len(list), "job")))
}

// maxShown bounds the jobs that are shown before a question.
const maxShown = 20

func idsOf(list []job.Job) []int64 {
	ids := make([]int64, len(list))
	for i := range list {
		ids[i] = list[i].ID
	}
	return ids
}
