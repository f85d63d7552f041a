package take

import (
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
)

// A rule still takes the file that it has just taken; and after an edit it still takes what it would take if that
// came now.
func TestARuleStillTakesWhatItWouldTake(t *testing.T) {
	before, after := rules(t, `
  - {name: units, watch: units, unit: folder, match: "*"}
  - {name: sized, watch: in, depth: all, match: "<letter>.csv", size: 5..}
  - {name: aged, watch: in, depth: all, match: "*.log", age: 1h..}
  - {name: seen, watch: in, events: [changed]}
  - {name: rest, watch: in, depth: 1}
`), rules(t, `
  - {name: units, watch: units, unit: folder, match: "a*"}
  - {name: sized, watch: in, match: "<letter>.csv", size: 10..}
  - {name: aged, watch: in, depth: all, match: "*.log", age: 2h..}
  - {name: seen, watch: in, events: [added]}
  - {name: rest, watch: in, unit: folder}
`)
	kept, dropped := map[string]int{}, map[string]int{}
	for seed := range uint64(2000) {
		r := rand.New(rand.NewPCG(seed, 3))
		path := "/office/" + []string{"in", "in/sub", "units"}[r.IntN(3)] + "/" +
			[]string{"a.csv", "b.csv", "b.log", "c"}[r.IntN(4)]
		facts := file.Facts{Exists: true, Dir: r.IntN(3) == 0, Size: r.Int64N(20), Ino: 7,
			Mod: file.At(now.Add(-time.Duration(r.IntN(180)) * time.Minute))}
		facts.Regular = !facts.Dir
		known := r.IntN(2) == 0
		v := verdictOf(t, before, path, facts, known, "")
		if v.Taker == nil {
			continue
		}
		row := job.Job{Rule: v.Taker.Rule.Name.S, File: path, Event: v.Event, Facts: facts, Taken: now}
		require.True(t, isStill(t, before, row), "seed %d: %s of %s", seed, path, row.Rule)
		require.Equal(t, v.Taker.Captures, Captures(before, none{}, row), "seed %d", seed)

		takes := isStill(t, after, row)
		would := verdictOf(t, after, path, facts, known, row.Rule).Taker != nil
		require.Equal(t, would, takes, "seed %d: %s of %s", seed, path, row.Rule)
		if takes {
			kept[row.Rule]++
		} else {
			dropped[row.Rule]++
		}
	}
	require.Len(t, kept, 3, "%v", kept)
	require.Len(t, dropped, 5, "%v", dropped)
}

// verdictOf is the decision on a file, of one rule alone if one is named.
func verdictOf(t *testing.T, set *plan.Set, path string, facts file.Facts, known bool, only string) Verdict {
	candidates, err := Candidates(set, path, facts.Dir, nil)
	require.NoError(t, err)
	candidates = slices.DeleteFunc(candidates, func(c plan.Candidate) bool {
		return only != "" && c.Rule.Name.S != only
	})
	earlier := facts
	earlier.Size++
	v, err := Decide(candidates, Offer{Facts: facts, Now: now}, Sources{
		Memory: func(plan.Candidate) (Memory, bool, error) { return Memory{Facts: earlier, Job: 1}, known, nil }})
	require.NoError(t, err)
	return v
}

// Of files that were gathered none is for a rule that gathers no more, and of a rule that is not there none.
func TestFilesThatWereGathered(t *testing.T) {
	row := job.Job{Rule: "many", File: "/office/in/a", Event: file.Added, Facts: asItIs, Taken: now,
		Extra: []job.Member{{File: "/office/in/b", Facts: asItIs}}}
	for text, still := range map[string]bool{
		"  - {name: many, watch: in, batch: {quiet: 1s}}":              true,
		"  - {name: many, watch: in, batch: {quiet: 1s}, match: a}":    false,
		"  - {name: many, watch: in, batch: {quiet: 1s}, size: 1MB..}": true, // each was taken at a time of its own
		"  - {name: many, watch: in}":                                  false,
		"  - {name: few, watch: in, batch: {quiet: 1s}}":               false,
	} {
		require.Equal(t, still, isStill(t, rules(t, text), row), text)
	}
	row.Extra[0].Companion = true // a marker
	require.True(t, isStill(t, rules(t, "  - {name: many, watch: in}"), row))
}

// none is a ledger of nothing.
type none struct{}

func (none) PlacedBelow(string) ([]string, bool, error) { return nil, false, nil }

func isStill(t *testing.T, set *plan.Set, row job.Job) bool {
	t.Helper()
	still, err := Still(set, none{}, row)
	require.NoError(t, err)
	return still
}
