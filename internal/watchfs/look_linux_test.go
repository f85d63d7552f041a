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
