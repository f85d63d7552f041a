package engine

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stilltide/internal/core/job"
	"stilltide/internal/core/turn"
)

// While it is looked for results that are lost, a job may make one anew: that is not made a second time.
func TestALostResultIsMadeOnce(t *testing.T) {
	dir := t.TempDir()
	input := filepath.Join(dir, "in", "gauge.csv")
	require.NoError(t, os.MkdirAll(filepath.Dir(input), 0o777))
	require.NoError(t, os.WriteFile(input, []byte("7"), 0o666))
	var o outcomes
	e, stop := run(t, dir, "rules: [{name: up, watch: in, debounce: 0s, do: [{mirror: made, repair: true}]}]\n", o.add)
	done := func(n int) func() bool { return func() bool { return o.count(job.Processed) == n } }
	require.Eventually(t, done(1), 20*time.Second, time.Millisecond)
	known, is, err := e.ledger.Known("up", input)
	require.NoError(t, err)
	require.True(t, is)
	lost := func(id int64) {
		require.NoError(t, e.do(func() { e.flow.Repair("up", []turn.Lost{{Input: input, Job: id}}, 1, time.Now()) }))
	}
	lost(known.Job - 1) // as it was seen before the job ended
	require.NoError(t, os.WriteFile(input+".next", nil, 0o666))
	require.Eventually(t, done(2), 20*time.Second, time.Millisecond)
	lost(known.Job)
	require.Eventually(t, done(3), 20*time.Second, time.Millisecond)
	lost(known.Job)
	require.NoError(t, e.Pause([]string{"up"}, true, time.Time{}))
	known, _, err = e.ledger.Known("up", input)
	require.NoError(t, err)
	lost(known.Job) // a job for it waits now
	lost(known.Job)
	require.NoError(t, e.Pause([]string{"up"}, false, time.Time{}))
	require.Eventually(t, done(4), 20*time.Second, time.Millisecond)
	stop()
	require.Equal(t, 4, o.count(job.Processed))
}

// Many lost results are made again when a person says so. While they are made they are found to be lost once more, by a
// look that was under way: that does not ask again. When they are there the next loss of many does.
func TestManyLostResultsAreAskedAboutOnce(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "in"), 0o777))
	e, stop := run(t, dir, "rules: [{name: up, watch: in, debounce: 0s, do: [{mirror: made, repair: true}]}]\n",
		func(turn.Outcome) {})
	lost := make([]turn.Lost, 30)
	for i := range lost {
		lost[i] = turn.Lost{Input: filepath.Join(dir, "in", fmt.Sprint(i)), Job: 1}
	}
	require.NoError(t, e.do(func() { // at once, so that no look of the engine's own comes between
		asksAfter := func(lost []turn.Lost) bool {
			e.flow.Repair("up", lost, 30, time.Now())
			return e.flow.Troubles()["up"] != ""
		}
		assert.True(t, asksAfter(lost))
		e.flow.SetPaused([]string{"up"}, false, time.Time{})
		assert.False(t, asksAfter(lost))
		assert.False(t, asksAfter(lost[2:]), "two are there already")
		assert.False(t, asksAfter(nil))
		assert.True(t, asksAfter(lost))
	}))
	stop()
}
