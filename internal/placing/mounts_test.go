//go:build linux

package placing

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"stilltide/internal/watchfs"
)

// A disk that the machine's table names and that has never been used is missed, too: what
// would be put below its place would lie on another disk, and be hidden by it later.
func TestADiskThatIsAwayBeforeItsFirstUse(t *testing.T) {
	dir := t.TempDir()
	point := filepath.Join(dir, "my disk")
	table := filepath.Join(dir, "fstab")
	require.NoError(t, os.WriteFile(table, []byte("# comment\nUUID=1 / ext4 defaults 0 1\nUUID=2 "+dir+
		"/my\\040disk/ ext4 nofail 0 2\nUUID=3 none swap sw 0 0\n"), 0o644))
	m := Mounts{listed: watchfs.ListedMounts(table)}
	require.Equal(t, []string{point}, m.listed)
	require.ErrorContains(t, m.Missing(filepath.Join(point, "out")), "its disk, mounted at "+point+", is not there")
	require.NoError(t, os.Mkdir(point, 0o755))
	require.Error(t, m.Missing(point))
	require.NoError(t, m.Missing(filepath.Join(dir, "my disk 2")))
	require.NoError(t, os.WriteFile(filepath.Join(point, "x"), nil, 0o644))
	require.NoError(t, m.Missing(filepath.Join(point, "out")), "somebody uses the folder without its disk")
	require.NoError(t, (&Mounts{listed: []string{"/proc"}}).Missing("/proc/self"), "it is there")
}
