//go:build linux

package engine

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"stilltide/internal/core/file"
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

// dropped is a mender of a move that was not made, and whose file is not as it was.
type dropped struct{}

func (dropped) Unmake(job.Job, []job.Placement) ([]job.Unit, []*job.Placement, []string) {
	return nil, nil, nil
}
func (dropped) Facts(p job.Placement) file.Facts { return p.Facts }
func (dropped) Settle(job.Placement) (at string, still bool, rest *job.Rest) {
	return "", false, nil
}

// A file that changed while its job ran, whose end was cut short, stays: it is a new one, with a job
// of its own, and no failure note is written beside it.
func TestAFileThatChangedBeforeItsEndWasCutShort(t *testing.T) {
	r := newReader(t, "  - {name: work, watch: in, debounce: 0s, run: x, processed: done, failed: failed}\n")
	path := filepath.Join(r.dir, "in", "a")
	require.NoError(t, os.WriteFile(path, []byte("other content"), 0o666))
	was := file.Facts{Exists: true, Regular: true, Size: 3}
	row := job.Job{ID: r.store.NextID(), Rule: "work", File: path, Watch: filepath.Dir(path), State: job.Queued,
		Event: file.Added, Facts: was, FileNow: path, Attempts: 1}
	r.store.Record(row, "")
	row.Become(job.Running)
	r.Resume(row, nil, []job.Placement{{ID: 1, Job: row.ID, Attempt: 1, Kind: job.Moved, Source: path,
		Target: filepath.Join(r.dir, "failed", "a"), Facts: was, State: job.Intended, FinalState: job.Failed}},
		dropped{}, true, r.now)
	require.Empty(t, r.Effects().Places)
	r.pass(time.Second)
	r.pass(time.Second)
	require.Equal(t, []string{"a"}, r.begun)
	require.NotEqual(t, row.ID, r.ids["a"])
	require.NoError(t, r.store.Flush())
	jobs, err := r.store.Jobs(ledger.Filter{ID: row.ID})
	require.NoError(t, err)
	require.Equal(t, job.Failed, jobs[0].State)
	require.Equal(t, path, jobs[0].FileNow)
}
