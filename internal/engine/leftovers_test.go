package engine

import (
	"errors"
	"os"
	"path/filepath"
	"testing"
	"time"

	"stilltide/internal/byhand"
	"stilltide/internal/core/job"
	"stilltide/internal/core/turn"
	"stilltide/internal/ledger"

	"github.com/stretchr/testify/require"
)

// Only what somebody undoes by hand is gone on with at a start. What an attempt could not
// take back, before a later one ended well, says nothing about the job.
func TestAStartDoesNotUndoAJobForWhatAnAttemptLeft(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "in"), 0o777))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "in", "a"), []byte("x"), 0o666))
	rules := `
rules:
  - {name: all, watch: in, debounce: 0s, do: [{copy: copies}], processed: done}
`
	var o outcomes
	e, stop := run(t, dir, rules, o.add)
	require.Eventually(t, func() bool { return o.count(job.Processed) == 1 }, 10*time.Second, time.Millisecond)
	require.NoError(t, e.ledger.Flush())
	list, err := e.ledger.Placements(1)
	require.NoError(t, err)
	left := list[0]
	left.ID, left.State = left.ID-1, job.Undoing
	e.ledger.RecordPlacement(left)
	stop()

	_, stop = run(t, dir, rules, o.add)
	stop()
	require.Equal(t, job.Processed, theJob(t, dir).State)
	require.FileExists(t, filepath.Join(dir, "done", "a"))
	require.FileExists(t, filepath.Join(dir, "copies", "a"))
}

// What could not be taken back when an attempt failed is taken back by the next start, also
// if the job only waits for its next attempt.
func TestAStartTakesBackWhatAnAttemptCouldNot(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "in"), 0o777))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "in", "a"), []byte("x"), 0o666))
	rules := `
rules:
  - name: all
    watch: in
    debounce: 0s
    retry: {times: 1, delay: 1h}
    do: [{copy: copies}, {run: "false"}]
`
	copied := filepath.Join(dir, "copies", "a")
	refuse := func(_ string, paths ...string) error {
		if _, err := os.Lstat(copied); err == nil && len(paths) > 0 && paths[0] == copied {
			return errors.New("the disk is away")
		}
		return nil
	}
	var o outcomes
	_, stop := runGuarded(t, dir, rules, o.add, refuse)
	require.Eventually(t, func() bool { return o.count(job.Retrying) == 1 }, 10*time.Second, time.Millisecond)
	stop()
	require.FileExists(t, copied)
	require.Contains(t, theJob(t, dir).Reason, "not undone")

	_, stop = run(t, dir, rules, func(turn.Outcome) {})
	stop()
	require.Equal(t, job.Retrying, theJob(t, dir).State)
	require.NoFileExists(t, copied)
}

// The next attempt begins at the time of day that is shown, also if the machine has slept until then.
func TestTheNextAttemptGoesByTheTimeOfDay(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "in"), 0o777))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "in", "a"), []byte("x"), 0o666))
	next := make(chan time.Time, 1)
	_, stop := run(t, dir, `
rules:
  - {name: all, watch: in, debounce: 0s, retry: {times: 1, delay: 1h}, run: "false"}
`, func(o turn.Outcome) { next <- o.Next })
	defer stop()
	at := <-next
	require.WithinRange(t, at, time.Now().Add(30*time.Minute), time.Now().Add(2*time.Hour))
	require.True(t, at == at.Round(0), "it counts by the running clock")
}

// theJob returns the only job in a folder's ledger.
func theJob(t *testing.T, dir string) job.Job {
	l, err := ledger.Open(filepath.Join(dir, ".stilltide"), func(error) {})
	require.NoError(t, err)
	defer l.Close()
	jobs, err := l.Jobs(job.Filter{})
	require.NoError(t, err)
	require.Len(t, jobs, 1)
	return jobs[0]
}

// An undoing by hand that was cut short is finished by the next start. Until then the job is
// not retried: what the new round does would be undone.
func TestAStartFinishesAnUndoingByHand(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "in"), 0o777))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "in", "a"), []byte("x"), 0o666))
	rules := `
rules:
  - {name: all, watch: in, debounce: 0s, do: [{copy: copies}], processed: done}
`
	var o outcomes
	e, stop := run(t, dir, rules, o.add)
	require.Eventually(t, func() bool { return o.count(job.Processed) == 1 }, 10*time.Second, time.Millisecond)
	require.NoError(t, e.ledger.Flush())
	list, err := e.ledger.Placements(1)
	require.NoError(t, err)
	for _, p := range list {
		p.State = job.Reverting
		e.ledger.RecordPlacement(p)
	}
	stop()

	l, err := ledger.Open(filepath.Join(dir, ".stilltide"), func(error) {})
	require.NoError(t, err)
	sent := byhand.Retry(l, nil, 1)
	require.NoError(t, l.Close())
	require.False(t, sent.Done)
	require.Contains(t, sent.Reason, "stilltide undo 1 finishes it")

	_, stop = run(t, dir, rules, o.add)
	stop()
	require.Equal(t, job.Reverted, theJob(t, dir).State)
	require.FileExists(t, filepath.Join(dir, "in", "a"))
	require.NoFileExists(t, filepath.Join(dir, "copies", "a"))
}
