package engine

import (
	"os"
	"slices"
	"time"

	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/watchfs"
)

// findLost tells the flow of the results of a swept folder's files that are lost, or were
// changed by hand, where rules want them made again (repair). It looks beside the flow.
func (e *Engine) findLost(folder string) {
	for _, r := range e.flow.Rules().Rules() {
		if s := r.Repairs(); s == nil || !r.Enabled || !slices.Contains(r.Folders, folder) {
			continue
		}
		e.beside(func() func() {
			lost, all := e.lost(r, folder)
			return func() { e.flow.Repair(r.Name.S, lost, all, time.Now()) }
		})
	}
}

// lost lists the files that are still there and whose result is not as it was made, and counts
// all results. If the folder that holds them is not there, none is lost.
func (e *Engine) lost(r *rule.Rule, folder string) (inputs []string, all int) {
	root := r.Spelled(plan.FixedDestination(r.Repairs()))
	if _, err := os.Stat(root); err != nil || e.desk.Mounted(root) != nil {
		return nil, 0
	}
	results, err := e.ledger.Results(r.Name.S, folder)
	if err != nil {
		return nil, 0 // the next sweep tries again
	}
	for _, one := range results {
		if _, below := plan.Below(one.Target, root); !below {
			continue // another step's
		}
		if there, err := watchfs.Stat(one.Input); err != nil || !there.Exists {
			continue
		}
		all++
		now, err := watchfs.Stat(one.Target)
		if err == nil && (!now.Exists || now.Size != one.After.Size || now.Mod != one.After.Mod) {
			inputs = append(inputs, one.Input)
		}
	}
	return inputs, all
}
