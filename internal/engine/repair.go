package engine

import (
	"time"

	"stilltide/internal/sift"
)

// findLost tells the flow of the results of a swept folder's files that are lost, or were
// changed by hand, where rules want them made again (repair). It looks beside the flow.
func (e *Engine) findLost(folder string) {
	set := e.flow.Rules()
	for _, r := range set.Watching(folder) {
		if r.Repairs() == nil {
			continue
		}
		e.beside(func() func() {
			lost, all := sift.Lost(e.ledger, set, r, folder, e.desk.Mounted)
			return func() { e.flow.Repair(r.Name.S, lost, all, time.Now()) }
		})
	}
}
