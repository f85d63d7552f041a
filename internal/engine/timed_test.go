package engine

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"stilltide/internal/core/job"
	"stilltide/internal/core/notation"
	"stilltide/internal/core/plan"
	"stilltide/internal/placing"
	"stilltide/internal/watchfs"
)

// Jobs are held until their rule's time, those that were taken by then go
// together, and a time that passed while nothing ran is made up once.
func TestScheduledJobs(t *testing.T) {
	dir := t.TempDir()
	f, diags := notation.Parse(filepath.Join(dir, "stilltide.yaml"), []byte(`version: 1
rules: [{name: weekly, watch: in, debounce: 0s, schedule: 0 20 * * fri, processed: done}]`))
	require.Empty(t, diags)
	store := newStore(t)
	start := func(now time.Time) *Engine {
		e := &Engine{o: Options{Rules: f}, ledger: store, state: f.StateFolder()}
		e.desk = placing.New(store, e.state, nil, &e.inHand)
		e.flow = newFlow(plan.NewSet(f), store, watchfs.Stat)
		require.NoError(t, e.recover(now))
		return e
	}
	require.NoError(t, os.Mkdir(filepath.Join(dir, "in"), 0o777))
	arrive := func(e *Engine, name string, now time.Time) {
		path := filepath.Join(dir, "in", name)
		require.NoError(t, os.WriteFile(path, []byte(name), 0o666))
		bring(e.flow, watchfs.Event{Kind: watchfs.Closed, Path: path}, now)
		e.flow.Advance(now)
	}
	at := func(text string) time.Time {
		when, err := time.ParseInLocation("2006-01-02 15:04", text, time.Local)
		require.NoError(t, err)
		return when
	}
	begun := func(e *Engine, now time.Time) (names []string) {
		e.flow.Advance(now)
		answer(e.flow, store, now)
		for _, p := range e.flow.Effects().Places {
			names = append(names, filepath.Base(p.Moves[0].Record.Source))
		}
		e.flow.Took()
		return names
	}

	e := start(at("2031-04-02 09:00"))
	arrive(e, "a", at("2031-04-02 09:00"))
	arrive(e, "b", at("2031-04-03 09:00"))
	require.Empty(t, begun(e, at("2031-04-04 19:59")))
	wake, ok := e.flow.Wake(at("2031-04-04 19:59"))
	require.True(t, ok)
	require.True(t, wake.Equal(at("2031-04-04 20:00")), wake)
	tally, err := store.Tally()
	require.NoError(t, err)
	require.Equal(t, 2, tally["weekly"][job.Held])
	require.Equal(t, []string{"a", "b"}, begun(e, at("2031-04-04 20:00")))
	arrive(e, "c", at("2031-04-04 20:01"))
	require.Empty(t, begun(e, at("2031-04-11 19:59")), "what comes later waits for the next time")

	// The machine is off at the next time: it is made up at the start, but what comes then waits.
	e = start(at("2031-04-13 08:00"))
	arrive(e, "d", at("2031-04-13 08:00"))
	require.Contains(t, begun(e, at("2031-04-13 08:00")), "c")
	require.Empty(t, begun(e, at("2031-04-18 19:59")))
	require.Equal(t, []string{"d"}, begun(e, at("2031-04-18 20:00")))
}
