package byhand

import (
	"errors"
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/ledger"
	"stilltide/internal/place"
	"stilltide/internal/watchfs"
)

// A folder that was copied to another disk, and of whose source nothing is left, is where its copy is,
// though the end came before that was recorded.
func TestACopiedFolderIsWhereItsCopyIs(t *testing.T) {
	dir := t.TempDir()
	l, err := ledger.OpenStepped(filepath.Join(dir, "state"))
	require.NoError(t, err)
	defer func() { require.NoError(t, l.Crash(nil)) }()
	target := filepath.Join(dir, "done", "whole")
	require.NoError(t, os.MkdirAll(filepath.Join(target, "deep"), 0o777))
	require.NoError(t, os.Mkdir(filepath.Join(dir, "in"), 0o777))
	copied, err := watchfs.LookTree(target)
	require.NoError(t, err)
	p := job.Placement{ID: 1, Job: 1, Kind: job.Moved, Source: filepath.Join(dir, "in", "whole"), Target: target,
		Facts: file.Facts{Exists: true, Dir: true, Ino: copied.Ino + 1, Dev: copied.Dev}, After: copied,
		State: job.Intended, FinalState: job.Processed}
	at, still, rest := SettleMove(l, &place.Placer{}, l.Folder(), p)
	require.Equal(t, target, at)
	require.False(t, still)
	require.Nil(t, rest)
	placed, err := l.Placements(1)
	require.NoError(t, err)
	require.Equal(t, job.Done, placed[0].State)
}

// An undo that was refused on its way, and on its way back, goes on the next time: the file has its hidden name. So
// does what a failed attempt could not take back.
func TestAnUndoThatWasRefusedTwiceGoesOn(t *testing.T) {
	for _, left := range []job.PlacementState{job.Reverting, job.Done} {
		t.Run(string(left), func(t *testing.T) { refusedTwice(t, left) })
	}
}

func refusedTwice(t *testing.T, left job.PlacementState) {
	dir := t.TempDir()
	in, done := filepath.Join(dir, "in"), filepath.Join(dir, "done")
	require.NoError(t, os.Mkdir(in, 0o777))
	require.NoError(t, os.Mkdir(done, 0o777))
	require.NoError(t, os.WriteFile(filepath.Join(done, "a"), []byte("a"), 0o666))
	l, err := ledger.OpenStepped(filepath.Join(dir, "state"))
	require.NoError(t, err)
	defer func() { require.NoError(t, l.Crash(nil)) }()
	facts, err := watchfs.Stat(filepath.Join(done, "a"))
	require.NoError(t, err)
	row := job.Job{ID: l.NextID(), Rule: "moved", File: filepath.Join(in, "a"), Watch: in, State: job.Running,
		Event: file.Added, Facts: facts, FileNow: filepath.Join(in, "a")}
	l.Record(row, "")
	row.Become(job.Processed)
	row.FileNow = filepath.Join(done, "a")
	l.Record(row, job.Running)
	l.RecordPlacement(job.Placement{ID: l.NextPlacement(), Job: row.ID, Kind: job.Moved, Source: row.File,
		Target: row.FileNow, Facts: facts, After: facts, State: job.Done, FinalState: job.Processed})

	refuses := true
	placer := &place.Placer{Before: func(operation string, paths ...string) error {
		switch {
		case operation == "rename" && filepath.Dir(paths[0]) != filepath.Dir(paths[1]):
			return syscall.EXDEV
		case refuses && (operation == "remove" || operation == "rename" && paths[1] == row.FileNow):
			return syscall.EIO
		}
		return nil
	}}
	set := plan.NewSet(&rule.File{})
	sent := UndoJob(l, placer, set, row)
	require.False(t, sent.Done, sent.Reason)
	require.NoFileExists(t, row.FileNow, "it has its hidden name")
	again, err := l.Reverting()
	require.NoError(t, err)
	require.Len(t, again, 1)
	waiting, err := FinishCutShort(l, placer, set, func(*plan.Set, job.Job, []job.Placement) error {
		return errors.New("it is not there")
	}, func(string, string) {})
	require.NoError(t, err)
	require.Len(t, waiting, 1, "nothing is touched of what cannot be seen")
	again[0].State = left
	l.RecordPlacement(again[0])

	refuses = false
	sent = UndoJob(l, placer, set, row)
	require.True(t, sent.Done, sent.Reason)
	content, err := os.ReadFile(row.File)
	require.NoError(t, err)
	require.Equal(t, "a", string(content))
	rest, err := os.ReadDir(done)
	require.NoError(t, err)
	require.Empty(t, rest)
}
