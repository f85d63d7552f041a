package standing

import (
	"fmt"

	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/watcher"
)

// Pool is a pool of other machines.
type Pool struct {
	Name    string `json:"pool" jsonschema:"its name"`
	Helpers int    `json:"helpers" jsonschema:"machines that work for it"`
	Workers int    `json:"workers" jsonschema:"how many commands they run at once"`
	Busy    int    `json:"busy" jsonschema:"how many they run now"`
	Away    string `json:"away,omitempty" jsonschema:"why nothing can be handed over"`
}

// Text says it in a few words.
func (p Pool) Text() string {
	if p.Away != "" {
		return fmt.Sprintf("%s: %s", p.Name, p.Away)
	}
	return fmt.Sprintf("%s: %s, %s, %d busy", p.Name, plan.Plural(p.Helpers, "helper"), plan.Plural(p.Workers,
		"worker"),
		p.Busy)
}

func pools(a Asked) (list []Pool) {
	if a.Live == nil {
		return nil
	}
	for _, p := range a.Live.Pools {
		list = append(list, Pool(p))
	}
	return list
}

// judgePools says which pools cannot be used, and how much waits for them.
func (w *Watcher) judgePools(a Asked, rules []Rule) {
	said := map[string]int{}
	var order []string
	for _, p := range w.Pools {
		if p.Away == "" {
			continue
		}
		if _, known := said[p.Away]; !known {
			order = append(order, p.Away)
		}
		said[p.Away] += heldFor(a.Rules, rules, p.Name)
	}
	for _, why := range order {
		text := why
		if n := said[why]; n > 0 {
			text += ": " + plan.Plural(n, "job") + " held"
		}
		w.Wrong = append(w.Wrong, text)
	}
}

// heldFor counts the jobs that wait for a pool.
func heldFor(f *rule.File, rules []Rule, pool string) (n int) {
	for _, r := range rules {
		if of := ruleNamed(f, r.Rule); of != nil && of.Pool.S == pool && of.WhileAway == rule.AwayHold {
			n += r.Held + r.Queued
		}
	}
	return n
}

func ruleNamed(f *rule.File, name string) *rule.Rule {
	for _, r := range f.All() {
		if r.Name.S == name {
			return r
		}
	}
	return nil
}

// away says why a rule's jobs wait for other machines, "" if they do not.
func (s Standing) away(r *rule.Rule) string {
	for _, p := range s.Watcher.Pools {
		if r != nil && r.Travels() && p.Name == r.Pool.S && p.Away != "" && r.WhileAway == rule.AwayHold {
			return p.Away
		}
	}
	return ""
}

// elsewhere says where a running job's command is; "" if it is here.
func elsewhere(live *watcher.Live, pools []Pool, j *job.Job) string {
	for _, r := range live.Running {
		if r.ID != j.ID || r.Pool == "" {
			continue
		}
		if r.Fetched {
			return "has come back: its result is being taken"
		}
		if r.On != "" {
			return "is on " + r.On
		}
		for _, p := range pools {
			if p.Name == r.Pool && p.Workers > 0 && p.Busy >= p.Workers {
				return fmt.Sprintf("is offered to %s, whose %s are all busy", r.Pool, plan.Plural(p.Workers, "worker"))
			}
		}
		return "is offered to " + r.Pool
	}
	return ""
}
