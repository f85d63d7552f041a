package content

import (
	"crypto/sha256"
	"encoding/hex"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// Whatever was thought of the size: the hash is that of the whole content.
func TestHash(t *testing.T) {
	path := filepath.Join(t.TempDir(), "gauge.csv")
	for _, length := range []int{0, 1, 17, 64<<10 - 1, 64 << 10, 64<<10 + 1, 300_000} {
		text := strings.Repeat("w", length)
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		sum := sha256.Sum256([]byte(text))
		for _, size := range []int64{int64(length), -1, 0, 64 << 10, int64(length) + 1} {
			got, err := Hash("", path, size)
			require.NoError(t, err)
			require.Equal(t, hex.EncodeToString(sum[:]), got, "%d bytes, taken for %d", length, size)
		}
	}
	_, err := Hash("", path+".not", 0)
	require.ErrorIs(t, err, os.ErrNotExist)
	_, err = Hash("", filepath.Dir(path), 0)
	require.Error(t, err, "a folder has no content")
}
