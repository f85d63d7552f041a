//go:build linux

package engine

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"stilltide/internal/core/job"
	"stilltide/internal/core/turn"
	"stilltide/internal/ledger"
)

// A file whose watched folder is not there, as that of a disk that was pulled out, has not gone: a
// job that is over but for its placing waits until the folder is back, and its command does not run
// again.
func TestAFolderThatGoesBeforeAJobIsPlaced(t *testing.T) {
	for what, told := range map[string]bool{"it is known": true, "it is found out by the placing": false} {
		r := newReader(t, "  - {name: work, watch: in, debounce: 0s, run: x, processed: done}\n")
		in, away := filepath.Join(r.dir, "in"), filepath.Join(r.dir, "away")
		state := func() job.Job {
			require.NoError(t, r.store.Flush())
			jobs, err := r.store.Jobs(ledger.Filter{})
			require.NoError(t, err)
			require.Len(t, jobs, 1, what)
			return jobs[0]
		}
		r.drop("a")
		require.Equal(t, []string{"a"}, r.begun, what)
		require.NoError(t, os.Rename(in, away))
		if told {
			r.WentAbsent(in, false)
		}
		exit := 0
		r.AttemptEnded(turn.AttemptEnd{ID: 1, OK: true, Exit: &exit}, r.now)
		if !told {
			require.Len(t, r.Effects().Places, 1, what)
			r.PlacedEnd(turn.PlacingEnd{ID: 1, Leads: job.Processed, Moved: []turn.Moved{{
				Source: filepath.Join(in, "a"), Err: job.ErrGone}}}, r.now)
		}
		r.pass(time.Millisecond)
		require.Equal(t, job.Running, state().State, what)
		require.Contains(t, state().Reason, "in is not there", what)
		require.NoError(t, os.Rename(away, in))
		r.IsThere(in)
		r.dropQuietly("a") // the sweep finds it
		r.now = r.now.Add(time.Minute)
		r.Advance(r.now)
		require.Len(t, r.Effects().Places, 1, what)
		require.Equal(t, job.Processed, r.Effects().Places[0].Leads, what)
		require.Empty(t, r.Effects().Starts, what)
	}
}
