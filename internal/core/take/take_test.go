package take

import (
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"stilltide/internal/core/file"
	"stilltide/internal/core/notation"
	"stilltide/internal/core/plan"
)

var now = time.Date(2031, 4, 2, 12, 0, 0, 0, time.UTC)

func rules(t *testing.T, text string) *plan.Set {
	t.Helper()
	f, diags := notation.Parse("/office/stilltide.yaml", []byte("version: 1\nrules:\n"+text))
	require.False(t, diags.Failed(), "%v", diags)
	return plan.NewSet(f)
}

func TestExamples(t *testing.T) {
	s := rules(t, `
  - name: gauges
    watch: in
    match: "gauge-<station>.csv"
    processed: "done/{station}"
    examples:
      - {file: gauge-NOR.csv, taken: true, file_after: done/NOR/gauge-NOR.csv}
      - {file: gauge-NOR.csv, taken: true, file_after: done/x}
      - {file: other.csv, taken: true}
      - {file: gauge-PIR.csv, taken: false}
  - {name: tables, watch: lists, media_type: text/csv, examples: [{file: b.csv, taken: true}, {file: b, taken: true}]}
  - {name: rest, watch: in, size: 1KB.., examples: [{file: x, size: 2KB, taken: true}, {file: x, taken: true}]}
`)
	var wrong []string
	for _, r := range s.Rules() {
		for i := range r.Examples {
			wrong = append(wrong, Example(s, r, &r.Examples[i], typeOf, now)...)
		}
	}
	require.Equal(t, []string{
		"gauge-NOR.csv should end in done/x, and it would end in done/NOR/gauge-NOR.csv",
		"other.csv should be taken by this rule, and no rule takes it",
		"gauge-PIR.csv should not be taken by this rule, and it is",
		"b should be taken by this rule, and no rule takes it",
		"x should be taken by this rule, and no rule takes it",
	}, wrong)
}

func typeOf(ending string) string {
	return map[string]string{".csv": "text/csv; charset=utf-8"}[ending]
}

// memory is what the rules of a test remember, by rule.
type memory map[string]Memory

func (m memory) sources() Sources {
	return Sources{Memory: func(c plan.Candidate) (Memory, bool, error) {
		k, ok := m[c.Rule.Name.S]
		return k, ok, nil
	}}
}

var (
	asItIs = file.Facts{Exists: true, Regular: true, Size: 5, Mod: file.At(now.Add(-time.Hour)), Ino: 7}
	before = file.Facts{Exists: true, Regular: true, Size: 4, Mod: file.At(now.Add(-2 * time.Hour)), Ino: 7}
)

func TestDecide(t *testing.T) {
	for name, tt := range map[string]struct {
		rules    string
		memory   memory
		byHand   bool
		takes    string
		event    file.Event
		remember []string
	}{
		"the first that " +
			"fits": {rules: "  - {name: a, watch: in, size: 9B..}\n  - {name: b, watch: in}",
			takes: "b", event: file.Added},
		"what a rule knows and changed": {rules: "  - {name: a, watch: in}",
			memory: memory{"a": {Facts: before, Job: 3}}, takes: "a", event: file.Changed},
		"what a rule has handled is nobody's": {rules: "  - {name: a, watch: in}\n  - {name: b, watch: in}",
			memory: memory{"a": {Facts: asItIs, Job: 3}}},
		"unless the rule " +
			"shares": {rules: "  - {name: a, watch: in, share: true}\n  - {name: b, watch: in}",
			memory: memory{"a": {Facts: asItIs, Job: 3}}, takes: "b", event: file.Added},
		"what was left is a later " +
			"rule's": {rules: "  - {name: a, watch: in, existing: leave}\n  - {name: b, watch: in}",
			memory: memory{"a": {Facts: asItIs}}, takes: "b", event: file.Added},
		"what was left is taken by hand": {rules: "  - {name: a, watch: in, existing: leave}",
			memory: memory{"a": {Facts: asItIs}}, byHand: true, takes: "a", event: file.Added},
		"what was left and changed has " +
			"changed": {rules: "  - {name: a, watch: in, existing: leave, events: [added]}\n  - {name: b, " +
			"watch: in}", memory: memory{"a": {Facts: before}}, takes: "b", event: file.Added,
			remember: []string{"a"}},
		"changed alone sees a new file": {rules: "  - {name: a, watch: in, events: [changed]}",
			remember: []string{"a"}},
		"and takes it when it changes": {rules: "  - {name: a, watch: in, events: [changed]}",
			memory: memory{"a": {Facts: before}}, takes: "a", event: file.Changed},
		"a removal's rule sees what others " +
			"take": {rules: "  - {name: a, watch: in}\n  - {name: b, watch: in, events: removed}", takes: "a",
			event: file.Added, remember: []string{"b"}},
		"also if it stands before " +
			"them": {rules: "  - {name: b, watch: in, events: removed}\n  - {name: a, watch: in}",
			takes: "a", event: file.Added, remember: []string{"b"}},
		"a rule for folders takes no " +
			"file": {rules: "  - {name: f, watch: in, unit: folder}\n  - {name: a, watch: in}", takes: "a",
			event: file.Added},
	} {
		t.Run(name, func(t *testing.T) {
			s := rules(t, tt.rules)
			candidates, err := Candidates(s, "/office/in/survey-1.csv", false, nil)
			require.NoError(t, err)
			v, err := Decide(candidates, Offer{Facts: asItIs, ByHand: tt.byHand, Now: now}, tt.memory.sources())
			require.NoError(t, err)
			taker := ""
			if v.Taker != nil {
				taker = v.Taker.Rule.Name.S
			}
			require.Equal(t, tt.takes, taker)
			require.Equal(t, tt.event, v.Event)
			var remember []string
			for _, r := range v.Remember {
				remember = append(remember, r.Candidate.Rule.Name.S)
			}
			require.Equal(t, tt.remember, remember)
		})
	}
}

func TestAMemoryThatCannotBeReadIsAnError(t *testing.T) {
	s := rules(t, "  - {name: a, watch: in}")
	candidates, _ := Candidates(s, "/office/in/f", false, nil)
	broken := errors.New("disk I/O error")
	from := Sources{Memory: func(plan.Candidate) (Memory, bool, error) { return Memory{}, false, broken }}
	v, err := Decide(candidates, Offer{Facts: asItIs, Tell: true, Now: now}, from)
	require.ErrorIs(t, err, broken)
	require.Nil(t, v.Taker)
	_, _, err = Gone(candidates, from)
	require.ErrorIs(t, err, broken)
}

func TestLoops(t *testing.T) {
	s := rules(t, "  - {name: a, watch: in}\n  - {name: b, watch: in}")
	candidates, _ := Candidates(s, "/office/in/f", false, nil)
	from := Sources{Chain: func(plan.Candidate, file.Facts) ([]string, error) { return []string{"a"}, nil }}
	v, err := Decide(candidates, Offer{Facts: asItIs, Tell: true, Now: now}, from)
	require.NoError(t, err)
	require.Equal(t, "b", v.Taker.Rule.Name.S)
	require.Equal(t, Loop, v.Replies[0].Answer)
	require.Equal(t, []string{"a"}, v.Chain)
}

func TestGone(t *testing.T) {
	for name, tt := range map[string]struct {
		rules        string
		told, forget []string
	}{
		"the rule that " +
			"reacts": {rules: "  - {name: a, watch: in}\n  - {name: b, watch: in, events: removed}",
			told: []string{"b"}, forget: []string{"a"}},
		"one alone, if it does not " +
			"share": {rules: "  - {name: a, watch: in, events: removed}\n  - {name: b, watch: in, events: " +
			"removed}", told: []string{"a"}, forget: []string{"b"}},
		"one after the other, if they " +
			"do": {rules: "  - {name: a, watch: in, events: removed, share: true}\n  - {name: b, watch: in, " +
			"events: removed}", told: []string{"a", "b"}},
		"nobody who does not know the file": {rules: "  - {name: unknown, watch: in, events: removed}"},
	} {
		t.Run(name, func(t *testing.T) {
			s := rules(t, tt.rules)
			candidates, _ := Candidates(s, "/office/in/f", false, nil)
			told, forget, err := Gone(candidates, memory{"a": {Facts: before}, "b": {Facts: before}}.sources())
			require.NoError(t, err)
			var names, forgotten []string
			for _, r := range told {
				names = append(names, r.Candidate.Rule.Name.S)
			}
			for _, c := range forget {
				forgotten = append(forgotten, c.Rule.Name.S)
			}
			require.Equal(t, tt.told, names)
			require.Equal(t, tt.forget, forgotten)
		})
	}
}

func TestAFolderThatRulesFilledIsNoUnit(t *testing.T) {
	s := rules(t, "  - {name: whole, watch: in, unit: folder}\n  - {name: a, watch: in, depth: all}")
	filled := func(unit string) (bool, error) { return unit == "/office/in/Pictures", nil }
	for path, want := range map[string]string{"/office/in/Pictures/x.png": "a", "/office/in/card/x.png": "whole"} {
		candidates, err := Candidates(s, path, false, filled)
		require.NoError(t, err)
		require.Equal(t, want, candidates[0].Rule.Name.S)
	}
	candidates, err := Candidates(s, "/office/in/Pictures", true, filled)
	require.NoError(t, err)
	require.Empty(t, candidates)
}

// A folder that a rule watches, or that holds one, is never another rule's unit: that rule would lose it.
func TestAWatchedFolderIsNoUnit(t *testing.T) {
	s := rules(t, "  - {name: whole, watch: in, unit: folder}\n  - {name: a, watch: [in/box, in/far/a/b]}\n"+
		"  - {name: off, watch: in/card, enabled: false}")
	for path, want := range map[string]string{"/office/in/box/x": "a", "/office/in/far/a/b/x": "a",
		"/office/in/far/x": "", "/office/in/card/x": "whole"} {
		candidates, err := Candidates(s, path, false, nil)
		require.NoError(t, err)
		got := ""
		if len(candidates) > 0 {
			got = candidates[0].Rule.Name.S
		}
		require.Equal(t, want, got, path)
	}
	for _, unit := range []string{"box", "far", "card"} {
		candidates, err := Candidates(s, "/office/in/"+unit, true, nil)
		require.NoError(t, err)
		require.Len(t, candidates, map[string]int{"card": 1}[unit], unit)
	}
}
