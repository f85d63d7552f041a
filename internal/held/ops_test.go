package held

import (
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

// Where the file system cannot rename without replacing, a second name does it.
func TestARenameInTwoStepsNeverReplaces(t *testing.T) {
	dir := t.TempDir()
	a, b, c := filepath.Join(dir, "a"), filepath.Join(dir, "b"), filepath.Join(dir, "c")
	require.NoError(t, os.WriteFile(a, []byte("a"), 0o666))
	require.NoError(t, os.WriteFile(b, []byte("b"), 0o666))
	require.ErrorIs(t, linkNew(a, b), fs.ErrExist)
	require.NoError(t, linkNew(a, c))
	require.NoFileExists(t, a)
	for path, want := range map[string]string{b: "b", c: "a"} {
		is, err := os.ReadFile(path)
		require.NoError(t, err)
		require.Equal(t, want, string(is))
	}
}
