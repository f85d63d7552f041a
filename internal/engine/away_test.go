//go:build linux

package engine

import (
	"context"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"stilltide/internal/byhand"
	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/core/turn"
	"stilltide/internal/core/underway"
	"stilltide/internal/ledger"
	"stilltide/internal/machine"
	"stilltide/internal/placing"
	"stilltide/internal/watchfs"
	"stilltide/internal/work"
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
			jobs, err := r.store.Jobs(job.Filter{})
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
			desk := placing.New(r.store, filepath.Join(r.dir, ".stilltide"), nil, &work.InHand{})
			desk.Mounts.Begin(r.store, r.Rules(), map[string]string{r.dir: "/"})
			desk.Add(r.Effects().Places)
			desk.Now(context.Background(), func(ends []turn.PlacingEnd) { r.PlacedEnd(ends[0], r.now) })
			placed, err := r.store.Placements(1)
			require.NoError(t, err)
			require.Equal(t, job.Intended, placed[0].State, "it is looked for again at the next start")
		}
		r.pass(time.Millisecond)
		require.Equal(t, job.Running, state().State, what)
		require.Contains(t, state().Reason, "in is not there", what)
		require.NoError(t, os.Rename(away, in))
		r.IsThere(in)
		r.dropQuietly("a") // the sweep finds it
		r.now = r.now.Add(time.Millisecond)
		r.Advance(r.now)
		require.Len(t, r.Effects().Places, 1, "%s: at once", what)
		require.Equal(t, job.Processed, r.Effects().Places[0].Leads, what)
		require.Empty(t, r.Effects().Starts, what)
	}
}

// The same for an attempt that failed because the folder had gone: the next one follows at once
// when that is back, however long it was away.
func TestAnAttemptFollowsItsFolder(t *testing.T) {
	r := newReader(t, "  - {name: work, watch: in, debounce: 0s, run: x, processed: done}\n")
	in, away := filepath.Join(r.dir, "in"), filepath.Join(r.dir, "away")
	r.drop("a")
	for range 3 {
		require.Equal(t, []string{"a"}, r.begun)
		r.begun = nil
		require.NoError(t, os.Rename(in, away))
		r.WentAbsent(in, false)
		exit := 1
		r.AttemptEnded(turn.AttemptEnd{ID: 1, Exit: &exit, Reason: "it ended with exit code 1"}, r.now)
		r.pass(time.Millisecond)
		r.pass(100 * time.Millisecond)
		require.Empty(t, r.begun)
		require.NoError(t, os.Rename(away, in))
		r.IsThere(in)
		r.pass(time.Millisecond)
	}
	require.Equal(t, []string{"a"}, r.begun)
}

// dropped is a recoverer of a move that was not made, and whose file is not as it was.
type dropped struct{}

func (dropped) Drop(job.Placement) {}

func (dropped) Unmake(job.Job, []job.Placement) ([]job.Unit, []*job.Placement, []string) {
	return nil, nil, nil
}
func (dropped) Facts(p job.Placement) file.Facts { return p.Facts }
func (dropped) Settle(job.Placement) (at string, still bool, rest *job.Rest) {
	return "", false, nil
}

// waits is a recoverer of a move that was not made, and whose file is where it was.
type waits struct {
	dropped
	lost *int64 // the number of the placement that is dropped
}

func (waits) Settle(p job.Placement) (at string, still bool, rest *job.Rest) {
	return p.Source, true, nil
}
func (w waits) Drop(p job.Placement) { *w.lost = p.ID }

// cutShort takes up a job of a rule whose end was cut short, and whose file has other content by now.
func (r *reader) cutShort(rule string, by underway.Recoverer) job.Job {
	path := filepath.Join(r.dir, "in", "a")
	require.NoError(r.t, os.WriteFile(path, []byte("other content"), 0o666))
	was := file.Facts{Exists: true, Regular: true, Size: 3}
	row := job.Job{ID: r.store.NextID(), Rule: rule, File: path, Watch: filepath.Dir(path), State: job.Queued,
		Event: file.Added, Facts: was, FileNow: path, Attempts: 1}
	r.store.Record(row, "")
	row.Become(job.Running)
	r.Resume(row, nil, underway.Recover(row, []job.Placement{{ID: 1, Job: row.ID, Attempt: 1, Kind: job.Moved,
		Source: path, Target: filepath.Join(r.dir, "failed", "a"), Facts: was, State: job.Intended,
		FinalState: job.Failed}}, by), true, r.now)
	require.Empty(r.t, r.Effects().Places)
	r.pass(time.Second)
	r.pass(time.Second)
	require.NoError(r.t, r.store.Flush())
	jobs, err := r.store.Jobs(job.Filter{ID: row.ID})
	require.NoError(r.t, err)
	return jobs[0]
}

const moves = "  - {name: work, watch: in, debounce: 0s, run: x, processed: done, failed: failed}\n"

// A file that changed while its job ran, whose end was cut short, stays: it is a new one, with a job
// of its own, and no failure note is written beside it.
func TestAFileThatChangedBeforeItsEndWasCutShort(t *testing.T) {
	r := newReader(t, moves)
	was := r.cutShort("work", dropped{})
	require.Equal(t, []string{"a"}, r.begun)
	require.NotEqual(t, was.ID, r.ids["a"])
	require.Equal(t, job.Failed, was.State)
	require.Equal(t, was.File, was.FileNow)
}

// The same where the rule is gone meanwhile.
func TestAFileThatChangedAndWhoseRuleIsGone(t *testing.T) {
	r := newReader(t, moves)
	was := r.cutShort("gone", dropped{})
	require.Equal(t, job.Cancelled, was.State)
	require.Equal(t, was.File, was.FileNow)
	require.Equal(t, []string{"a"}, r.begun, "another rule takes it")
}

// A move that was meant by a rule which is gone is not meant any more.
func TestAMoveWhoseRuleIsGone(t *testing.T) {
	r := newReader(t, moves)
	var lost int64
	was := r.cutShort("gone", waits{lost: &lost})
	require.Equal(t, job.Cancelled, was.State)
	require.Equal(t, int64(1), lost)
}

// A file that settles again before its job runs is not gone because its folder is.
func TestAFileThatSettlesAgainWaitsForItsFolder(t *testing.T) {
	r := newReader(t, "  - {name: work, watch: in, debounce: 1s, run: x}\n")
	r.drop("a", "b")
	r.pass(2 * time.Second)
	require.Equal(t, []string{"a"}, r.begun)
	path := filepath.Join(r.dir, "in", "b")
	require.NoError(t, os.WriteFile(path, []byte("more"), 0o666))
	r.end()
	require.Empty(t, r.begun, "it settles again")
	away := filepath.Join(r.dir, "away")
	require.NoError(t, os.Rename(filepath.Dir(path), away))
	r.WentAbsent(filepath.Dir(path), false)
	r.pass(time.Minute)
	require.NoError(t, os.Rename(away, filepath.Dir(path)))
	r.IsThere(filepath.Dir(path))
	for range 3 { // it looks again, and settles
		r.pass(time.Minute)
	}
	require.Equal(t, []string{"b"}, r.begun)
	require.NoError(t, r.store.Flush())
	jobs, err := r.store.Jobs(job.Filter{})
	require.NoError(t, err)
	require.Len(t, jobs, 2)
}

// A job that had begun, and whose folder is away at the next start, is taken up when that is back:
// what it did in there cannot be seen before.
func TestAJobWaitsForItsFolderAtAStart(t *testing.T) {
	w := newWorld(t, t.TempDir(), 1)
	w.start()
	defer w.lose()
	path := filepath.Join(w.dir, "in", "f1.steps")
	w.write(path, "token-1 ")
	w.pump()
	w.pump()
	require.Len(t, w.running, 1)
	require.NoError(t, w.store.Flush())
	w.takeAway()
	w.protected(func() { panic(crashed{}) })
	w.pump()
	require.Len(t, w.e.later, 1)
	require.Empty(t, w.running)
	w.takeAway()
	for len(w.running) == 0 {
		w.pump()
	}
	require.Empty(t, w.e.later)
	require.Len(t, w.running, 1)
	require.Equal(t, path, w.running[0].Plan.File)
}

// Wherever in its steps a job was when the system went down, and the disk of its folder is there only later: nothing
// takes its file before it is known what the job did with it, however long that takes.
func TestNothingIsTakenBeforeItsJobIsTakenUp(t *testing.T) {
	for exit := range 2 { // of the command among the steps: what it placed before that is taken back
		operation := 1 + exit
		for crashedIn(t, operation, exit) {
			operation += 16 / machine.Worlds(8)
		}
		require.Greater(t, operation, 20, "its steps have more operations than that")
	}
}

// crashedIn has a job crash before an operation of its steps, and tells whether they have so many.
func crashedIn(t *testing.T, operation, exit int) bool {
	w, _, _ := inSteps(t, uint64(operation))
	defer func() { w.lose() }()
	a := w.running[0]
	w.running, w.crashIn = nil, operation
	if w.survives(func() { w.endSteps(a, exit) }) {
		return false
	}
	w.lose()
	w.takeAway()
	w.start()
	known := len(w.e.later) > 0 // else the ledger has forgotten it, and nothing was done with it
	w.takeAway()
	for w.slow = true; w.slow; w.slow = w.r.IntN(6) > 0 {
		w.now = w.now.Add(500 * time.Millisecond)
		w.pump()
		require.False(t, known && len(w.running) > 0, "operation %d", operation)
	}
	w.quiet()
	require.True(t, w.promises())
	return true
}

// The engine takes back what the attempt did, and begins another: at the start, or when the folder comes back.
func TestTheEngineTakesUpAJob(t *testing.T) {
	for when, absent := range map[string]bool{"at the start": false, "when its folder is back": true} {
		t.Run(when, func(t *testing.T) { takesUp(t, absent) })
	}
}

// cutAmongSteps makes a folder with a job whose step has given its file another name when the watcher ended.
func cutAmongSteps(t *testing.T) (dir, in, away string) {
	dir = t.TempDir()
	in, away = filepath.Join(dir, "in"), filepath.Join(dir, "away")
	require.NoError(t, os.Mkdir(away, 0o777))
	require.NoError(t, os.WriteFile(filepath.Join(away, "a.ren"), []byte("a"), 0o666))
	facts, err := watchfs.Stat(filepath.Join(away, "a.ren"))
	require.NoError(t, err)
	l, err := ledger.Open(filepath.Join(dir, ".stilltide"), func(err error) { require.NoError(t, err) })
	require.NoError(t, err)
	row := job.Job{ID: l.NextID(), Rule: "steps", File: filepath.Join(in, "a"), Watch: in, State: job.Queued,
		Event: file.Added, Facts: facts, FileNow: filepath.Join(in, "a"), Attempts: 1}
	l.Record(row, "")
	row.Become(job.Running)
	l.Record(row, job.Queued)
	l.RecordPlacement(job.Placement{ID: l.NextPlacement(), Job: row.ID, Attempt: 1, Kind: job.Moved, Source: row.File,
		Target: row.File + ".ren", Facts: facts, After: facts, State: job.Done, Chained: true})
	require.NoError(t, l.Close())
	return dir, in, away
}

const renaming = "rules: [{name: steps, watch: in, debounce: 0s, do: [{rename: \"{name}.ren\"}], processed: done}]\n"

// isAway waits until the watcher knows that its folder is not there.
func isAway(t *testing.T, e *Engine, in string) {
	require.Eventually(t, func() bool {
		live, err := e.Live()
		return err == nil && live.Folders[in].Absent
	}, 20*time.Second, time.Millisecond)
}

func takesUp(t *testing.T, absent bool) {
	dir, in, away := cutAmongSteps(t)
	if !absent {
		require.NoError(t, os.Rename(away, in))
	}
	ends := make(chan turn.Outcome, 8)
	e, stop := run(t, dir, renaming, func(o turn.Outcome) { ends <- o })
	defer stop()
	if absent {
		isAway(t, e, in)
		require.NoError(t, os.Rename(away, in))
	}
	select {
	case o := <-ends:
		require.Equal(t, job.Processed, o.Job.State, o.Job.Reason)
		require.FileExists(t, filepath.Join(dir, "done", "a.ren"))
	case <-time.After(20 * time.Second):
		t.Fatal("it was not taken up")
	}
}

// The watcher's end waits for the job that is just being taken up, and comes to an end.
func TestTheEndWhileAJobIsTakenUp(t *testing.T) {
	dir, in, away := cutAmongSteps(t)
	begun, goOn := make(chan struct{}), make(chan struct{})
	var once sync.Once
	e, stop := runGuarded(t, dir, renaming, func(turn.Outcome) {}, func(string, ...string) error {
		once.Do(func() { close(begun); <-goOn })
		return nil
	})
	isAway(t, e, in)
	require.NoError(t, os.Rename(away, in))
	<-begun
	go func() {
		for stopping := false; !stopping; { // it is told to end
			if e.do(func() { stopping = e.flow.Stopping() }) != nil {
				break
			}
		}
		close(goOn)
	}()
	late := time.AfterFunc(20*time.Second, func() { panic("it does not end") })
	stop()
	late.Stop()
	require.FileExists(t, filepath.Join(in, "a"), "it was taken back")
}

// An undo or a retry that a crash has cut short, and whose folder is away at the next start, is finished when that is
// back, before a rule takes what lies there.
func TestWhatWasAskedByHandIsFinishedWhenItsFolderIsBack(t *testing.T) {
	for want, p := range map[job.State]job.Placement{
		job.Reverted:  {State: job.Reverting, FinalState: job.Processed},
		job.Processed: {State: job.Intended, FinalState: job.Queued},
	} {
		dir := t.TempDir()
		in, away, done := filepath.Join(dir, "in"), filepath.Join(dir, "away"), filepath.Join(dir, "done", "a")
		require.NoError(t, os.Mkdir(away, 0o777))
		require.NoError(t, os.WriteFile(filepath.Join(away, "a"), []byte("a"), 0o666)) // it is back already
		facts, err := watchfs.Stat(filepath.Join(away, "a"))
		require.NoError(t, err)
		l, err := ledger.Open(filepath.Join(dir, ".stilltide"), func(err error) { require.NoError(t, err) })
		require.NoError(t, err)
		row := job.Job{ID: l.NextID(), Rule: "moved", File: filepath.Join(in, "a"), Watch: in, State: job.Running,
			Event: file.Added, Facts: facts, FileNow: filepath.Join(in, "a")}
		l.Record(row, "")
		row.Become(job.Processed)
		row.FileNow = done
		l.Record(row, job.Running)
		p.ID, p.Job, p.Kind, p.Facts, p.After = l.NextPlacement(), row.ID, job.Moved, facts, facts
		if p.Source, p.Target = row.File, done; p.State == job.Intended {
			p.Source, p.Target = done, row.File
		}
		l.RecordPlacement(p)
		require.NoError(t, l.Close())

		e, stop := run(t, dir, "rules: [{name: moved, watch: in, debounce: 0s, processed: done}]\n",
			func(turn.Outcome) {})
		isAway(t, e, in)
		require.NoError(t, os.Rename(away, in))
		require.Eventually(t, func() bool {
			row, err := byhand.JobByID(e.ledger, row.ID)
			return err == nil && row.State == want && exists(done) == (want == job.Processed)
		}, 20*time.Second, 5*time.Millisecond, want)
		require.NoError(t, os.WriteFile(filepath.Join(in, "b"), []byte("b"), 0o666))
		require.Eventually(t, func() bool { return exists(filepath.Join(filepath.Dir(done), "b")) }, 20*time.Second,
			5*time.Millisecond)
		require.NoError(t, e.ledger.Flush())
		jobs, err := e.ledger.Jobs(job.Filter{})
		require.NoError(t, err)
		require.Len(t, jobs, 2, want)
		require.Equal(t, want == job.Reverted, exists(filepath.Join(in, "a")))
		stop()
	}
}

func exists(path string) bool {
	_, err := os.Lstat(path)
	return err == nil
}
