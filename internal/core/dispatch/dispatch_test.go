package dispatch

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"stilltide/internal/core/file"
)

var noon = time.Date(2031, 4, 2, 12, 0, 0, 0, time.UTC)

func drain(m *Machine, now time.Time) (ids []int64) {
	for {
		j, ok := m.Next(now)
		if !ok {
			return ids
		}
		ids = append(ids, j.ID)
	}
}

// A rule of jobs that take hours has all workers while nobody else wants one. Another rule waits
// a second, and then has one worker beyond the number, for one job after the other; so has no
// third one beside it, and none with a single worker.
func TestOneSlowRuleDoesNotHoldUpTheOthers(t *testing.T) {
	m := New(3)
	for _, name := range []string{"slow", "quick", "third"} {
		m.SetRule(Rule{Name: name})
	}
	for i := range int64(5) {
		m.Add(Job{ID: i + 1, Rule: "slow"})
	}
	require.Equal(t, []int64{1, 2, 3}, drain(m, noon), "no worker is left idle")
	at := noon.Add(time.Minute)
	for i := range int64(3) {
		m.Add(Job{ID: 10 + i, Rule: "quick"})
	}
	m.Add(Job{ID: 20, Rule: "third"})
	require.Equal(t, []int64{10}, drain(m, at), "none has come free for long")
	require.Empty(t, drain(m, at.Add(time.Hour)), "one in all")
	m.Done(10)
	require.Empty(t, drain(m, at.Add(time.Hour)))
	wake, ok := m.Wake(at.Add(time.Hour))
	require.True(t, ok)
	require.Equal(t, at.Add(time.Hour+time.Second), wake)
	require.Equal(t, []int64{11}, drain(m, wake), "the one that came first")
	m.Done(1)
	m.Done(11)
	require.Equal(t, []int64{12}, drain(m, wake), "a worker that is free goes to who has none")

	single := New(1)
	single.SetRule(Rule{Name: "slow"})
	single.SetRule(Rule{Name: "quick"})
	single.Add(Job{ID: 1, Rule: "slow"})
	single.Add(Job{ID: 2, Rule: "quick"})
	require.Equal(t, []int64{1}, drain(single, noon))
	require.Empty(t, drain(single, noon.Add(time.Hour)))
}

func TestASingleRuleUsesAllWorkers(t *testing.T) {
	m := New(2)
	m.SetRule(Rule{Name: "only"})
	m.SetRule(Rule{Name: "moves", Light: true})
	for i := range int64(3) {
		m.Add(Job{ID: i + 1, Rule: "only"})
	}
	m.Add(Job{ID: 9, Rule: "moves"})
	require.ElementsMatch(t, []int64{1, 2, 9}, drain(m, noon))
}

// A rule that moves to another queue while its job runs leaves nothing behind in
// the old one, and takes nothing from the new one.
func TestARuleMovesToAnotherQueue(t *testing.T) {
	m := New(5)
	m.SetQueue("old", Queue{Workers: 1})
	m.SetQueue("new", Queue{Workers: 1})
	m.SetRule(Rule{Name: "moves", Queue: "old"})
	m.SetRule(Rule{Name: "stays", Queue: "old"})
	m.SetRule(Rule{Name: "other", Queue: "new"})
	m.Add(Job{ID: 1, Rule: "moves"})
	require.Equal(t, []int64{1}, drain(m, noon))
	m.SetRule(Rule{Name: "moves", Queue: "new"})
	m.Add(Job{ID: 2, Rule: "stays"})
	require.Empty(t, drain(m, noon), "the running job holds the only worker of its queue")
	m.Done(1)
	require.Equal(t, []int64{2}, drain(m, noon))
	m.Add(Job{ID: 3, Rule: "other"})
	m.Add(Job{ID: 4, Rule: "moves"})
	require.Equal(t, []int64{3}, drain(m, noon), "the new queue has one worker, not two")
	m.Done(3)
	require.Equal(t, []int64{4}, drain(m, noon))
}

func TestPriorityThenFewestRunning(t *testing.T) {
	m := New(10)
	m.SetQueue("urgent", Queue{Priority: 5})
	m.SetRule(Rule{Name: "a"})
	m.SetRule(Rule{Name: "b"})
	m.SetRule(Rule{Name: "u", Queue: "urgent"})
	for i, r := range []string{"a", "a", "b", "b", "u"} {
		m.Add(Job{ID: int64(i + 1), Rule: r})
	}
	require.Equal(t, []int64{5, 1, 3, 2, 4}, drain(m, noon))
}

func TestOrders(t *testing.T) {
	jobs := []Job{
		{ID: 1, Path: "c", Size: 3, Mod: file.At(noon.Add(2))},
		{ID: 2, Path: "a", Size: 1, Mod: file.At(noon.Add(3))},
		{ID: 3, Path: "b", Size: 2, Mod: file.At(noon.Add(1))},
	}
	for order, want := range map[Order][]int64{
		ByArrival: {1, 2, 3}, ByName: {2, 3, 1}, Oldest: {3, 1, 2}, Newest: {2, 1, 3}, Smallest: {2, 3, 1},
	} {
		m := New(9)
		m.SetRule(Rule{Name: "r", Order: order})
		for _, j := range jobs {
			j.Rule = "r"
			m.Add(j)
		}
		require.Equal(t, want, drain(m, noon), order)
	}
}

func TestRateAndDue(t *testing.T) {
	m := New(9)
	m.SetQueue("q", Queue{Count: 2, Per: time.Minute})
	m.SetRule(Rule{Name: "r", Queue: "q"})
	m.SetRule(Rule{Name: "later"})
	for i := range int64(3) {
		m.Add(Job{ID: i + 1, Rule: "r"})
	}
	m.Add(Job{ID: 9, Rule: "later", Due: noon.Add(time.Second)})
	require.Equal(t, []int64{1, 2}, drain(m, noon))
	wake, ok := m.Wake(noon)
	require.True(t, ok)
	require.Equal(t, noon.Add(time.Second), wake)
	require.Equal(t, []int64{9}, drain(m, wake))
	wake, ok = m.Wake(wake)
	require.True(t, ok)
	require.Equal(t, noon.Add(time.Minute), wake)
	require.Equal(t, []int64{3}, drain(m, wake))
}

func TestHeldAndRemoved(t *testing.T) {
	m := New(2)
	m.SetRule(Rule{Name: "r", Held: true})
	m.Add(Job{ID: 1, Rule: "r", Key: "k"})
	m.Add(Job{ID: 2, Rule: "r", Key: "k"})
	m.Add(Job{ID: 3, Rule: "r", Due: noon})
	require.Empty(t, drain(m, noon))
	m.SetRule(Rule{Name: "r"})
	require.Equal(t, []int64{1, 3}, drain(m, noon))
	require.False(t, m.Remove(1), "it runs")
	require.True(t, m.Remove(2), "it waits for the key")
	m.Done(1)
	m.Done(3)
	require.Zero(t, m.Len())
}

func TestRetryTimes(t *testing.T) {
	r := Retry{Times: 5, First: time.Second, Factor: 2, Longest: 10 * time.Second, Jitter: 0.2, NeverOn: []int{65}}
	var last time.Duration
	for attempt := 1; attempt <= 4; attempt++ {
		low, again := r.Again(attempt, 1, 0)
		require.True(t, again)
		high, _ := r.Again(attempt, 1, 1)
		require.Greater(t, low, last, "ever later, whatever chance says")
		last = high
	}
	longest, again := r.Again(5, 1, 1)
	require.True(t, again)
	require.Equal(t, 10*time.Second, longest)
	_, again = r.Again(6, 1, 0)
	require.False(t, again)
	_, again = r.Again(1, 65, 0)
	require.False(t, again, "this exit code is not worth another try")
}

// Whatever comes and goes, no bound is ever exceeded, no key runs twice at
// once, and every job runs exactly once.
func TestBounds(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		workers := rapid.IntRange(1, 4).Draw(t, "workers")
		m := New(workers)
		m.SetQueue("one", Queue{Workers: 1})
		rules := []Rule{{Name: "a"}, {Name: "b", Queue: "one"}, {Name: "c", Queue: "one"},
			{Name: "light", Light: true}}
		for _, r := range rules {
			m.SetRule(r)
		}
		now, next := noon, int64(0)
		running, ran := map[int64]Job{}, map[int64]bool{}
		end := func() {
			for id := range running {
				m.Done(id)
				delete(running, id)
				return
			}
		}
		step := func() {
			if j, ok := m.Next(now); ok {
				if ran[j.ID] {
					t.Fatalf("job %d runs twice", j.ID)
				}
				ran[j.ID], running[j.ID] = true, j
			}
			heavy, one, keys := 0, 0, map[string]bool{}
			for _, j := range running {
				if j.Rule != "light" {
					heavy++
				}
				if j.Rule == "b" || j.Rule == "c" {
					one++
				}
				if j.Key != "" && keys[j.Key] {
					t.Fatalf("two jobs with the key %s run", j.Key)
				}
				keys[j.Key] = true
			}
			bound := workers
			if workers > 1 {
				bound++ // for a rule that has none
			}
			if heavy > bound || one > 1 {
				t.Fatalf("%d of %d workers, %d of 1 in the queue", heavy, workers, one)
			}
		}
		for range rapid.IntRange(1, 60).Draw(t, "acts") {
			switch rapid.IntRange(0, 3).Draw(t, "act") {
			case 0, 1:
				next++
				j := Job{ID: next, Rule: rapid.SampledFrom(rules).Draw(t, "rule").Name}
				if k := rapid.IntRange(0, 3).Draw(t, "key"); k > 0 {
					j.Key = fmt.Sprint(k)
				}
				if rapid.Bool().Draw(t, "later") {
					j.Due = now.Add(time.Second)
				}
				m.Add(j)
			case 2:
				end()
			case 3:
				now = now.Add(700 * time.Millisecond)
			}
			step()
		}
		for range 1000 {
			now = now.Add(time.Second)
			step()
			end()
		}
		if int64(len(ran)) != next || m.Len() != 0 {
			t.Fatalf("%d of %d jobs ran, %d are left", len(ran), next, m.Len())
		}
	})
}

// The jobs of a pool take places on other machines, and none of the workers here; without a
// place they wait, and hold up no other.
func TestAPoolHasItsOwnPlaces(t *testing.T) {
	m := New(1)
	m.SetRule(Rule{Name: "far", Pool: "heavy"})
	m.SetRule(Rule{Name: "near"})
	for id := range int64(4) {
		m.Add(Job{ID: id + 1, Rule: "far"})
	}
	m.Add(Job{ID: 9, Rule: "near"})
	next := func() int64 { j, _ := m.Next(time.Time{}); return j.ID }
	require.Equal(t, int64(9), next(), "there is no place in the pool yet")
	require.Zero(t, next())
	m.SetPool("heavy", 2)
	require.Equal(t, []int64{1, 2, 0}, []int64{next(), next(), next()})
	m.Done(1)
	require.Equal(t, []int64{3, 0}, []int64{next(), next()})
	m.Add(Job{ID: 10, Rule: "near"})
	require.Zero(t, next(), "the worker here is busy")
	m.SetRule(Rule{Name: "far"}) // its jobs run here from now on
	m.Done(9)
	require.Equal(t, int64(10), next(), "those under way count elsewhere")
	m.Done(10)
	require.Equal(t, int64(4), next())
	m.Done(2)
	m.Done(3)
	m.Done(4)
	m.SetRule(Rule{Name: "far", Pool: "heavy"})
	m.Add(Job{ID: 11, Rule: "far"})
	m.Add(Job{ID: 12, Rule: "near", Alone: true})
	require.Equal(t, []int64{11, 0}, []int64{next(), next()}, "what runs alone has nothing beside it anywhere")
	m.Done(11)
	require.Equal(t, int64(12), next())
}
