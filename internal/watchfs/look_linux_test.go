package watchfs

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"stilltide/internal/core/file"
)

func TestLookKnowsWriters(t *testing.T) {
	path := touch(t, filepath.Join(t.TempDir(), "f"))
	f, err := Look(path)
	require.NoError(t, err)
	require.Equal(t, file.None, f.Writers)
	require.Equal(t, int64(1), f.Size)

	w, err := os.OpenFile(path, os.O_WRONLY, 0)
	require.NoError(t, err)
	f, err = Look(path)
	require.NoError(t, err)
	require.Equal(t, file.Some, f.Writers)
	require.NoError(t, w.Close())

	r, err := os.Open(path) // a reader is no writer
	require.NoError(t, err)
	defer r.Close()
	f, err = Look(path)
	require.NoError(t, err)
	require.Equal(t, file.None, f.Writers)
}

func TestLookAtOddThings(t *testing.T) {
	dir := t.TempDir()
	f, err := Look(filepath.Join(dir, "none"))
	require.NoError(t, err)
	require.False(t, f.Exists)

	link := filepath.Join(dir, "link")
	require.NoError(t, os.Symlink(touch(t, filepath.Join(dir, "f")), link))
	f, err = Look(link)
	require.NoError(t, err)
	require.True(t, f.Exists)
	require.False(t, f.Regular, "links are not followed")

	fifo := filepath.Join(dir, "fifo")
	require.NoError(t, unix.Mkfifo(fifo, 0o666))
	f, err = Look(fifo)
	require.NoError(t, err, "a FIFO without a writer does not block")
	require.False(t, f.Regular)

	f, err = Look(dir)
	require.NoError(t, err)
	require.True(t, f.Dir)
}

// A Looker sees what each folder has, whichever folder it looked into before, and nothing
// behind a link that has taken a folder's place.
func TestALookerSeesWhatEachFolderHas(t *testing.T) {
	root, other := t.TempDir(), t.TempDir()
	for i, path := range []string{"a/f", "b/f", "b/c/f", "f"} {
		path = filepath.Join(root, path)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o777))
		require.NoError(t, os.WriteFile(path, make([]byte, i+1), 0o666))
	}
	require.NoError(t, os.WriteFile(filepath.Join(other, "f"), make([]byte, 9), 0o666))
	sizes := func() (list []int64) {
		var by Looker
		defer by.Close()
		for _, path := range []string{"a/f", "a/none", "b/f", "b/c/f", "f", "b/f", "a/f", "none/f"} {
			facts, err := by.LookBelow(root, filepath.Join(root, path))
			require.NoError(t, err)
			list = append(list, facts.Size)
		}
		return list
	}
	require.Equal(t, []int64{1, 0, 2, 3, 4, 2, 1, 0}, sizes())
	require.NoError(t, os.RemoveAll(filepath.Join(root, "a")))
	require.NoError(t, os.Symlink(other, filepath.Join(root, "a")))
	require.Equal(t, []int64{0, 0, 2, 3, 4, 2, 0, 0}, sizes())
}
