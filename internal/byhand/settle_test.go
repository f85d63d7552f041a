package byhand

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
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
