package flow

import "stilltide/internal/core/rule"

// Pool is how a pool of other machines stands.
type Pool struct {
	Places int    // commands that it takes at once
	Away   string // why none can be handed over, "" if that is not known, or not so
}

// SetPools tells how the pools stand now.
func (f *Flow) SetPools(pools map[string]Pool) {
	f.pools = pools
	for name, p := range pools {
		f.dispatch.SetPool(name, p.Places)
	}
	f.ApplyRules()
}

// poolOf names the pool whose machines run a rule's commands now, "" if this one does.
func (f *Flow) poolOf(r *rule.Rule) string {
	if !r.Travels() || r.WhileAway == rule.AwayRunHere && f.pools[r.Pool.S].Away != "" {
		return ""
	}
	return r.Pool.S
}

// isAway reports whether a rule's jobs are held because no other machine can run them.
func (f *Flow) isAway(name string) bool {
	r := f.set.Rule(name)
	return r != nil && r.Travels() && r.WhileAway == rule.AwayHold && f.pools[r.Pool.S].Away != ""
}

// Away says, by rule, why jobs are held that no other machine can run.
func (f *Flow) Away() map[string]string {
	away := map[string]string{}
	for _, r := range f.set.Rules() {
		if f.isAway(r.Name.S) {
			away[r.Name.S] = f.pools[r.Pool.S].Away
		}
	}
	return away
}
