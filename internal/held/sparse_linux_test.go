package held

import (
	"bytes"
	"math/rand/v2"
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"

	"stilltide/internal/machine"
)

// written is a file of holes with data here and there, some of which is zero.
func written(t *testing.T, path string, r *rand.Rand) {
	f, err := os.Create(path)
	require.NoError(t, err)
	defer f.Close()
	const most = 5 << 20 // several stretches
	require.NoError(t, f.Truncate(r.Int64N(most)))
	for range r.IntN(5) {
		data := make([]byte, 1+r.IntN(3*block))
		for i := range data {
			if r.IntN(2) == 0 {
				data[i] = byte(r.IntN(3))
			}
		}
		if r.IntN(4) == 0 {
			clear(data)
		}
		at := r.Int64N(most)
		if r.IntN(2) == 0 {
			at -= at % block
		}
		_, err := f.WriteAt(data, at)
		require.NoError(t, err)
	}
}

func readBack(t *testing.T, path string) (content []byte, blocks int64) {
	content, err := os.ReadFile(path)
	require.NoError(t, err)
	info, err := os.Stat(path)
	require.NoError(t, err)
	return content, info.Sys().(*syscall.Stat_t).Blocks
}

// A copy of a file with holes has the same content, and takes no more room.
func TestACopyOfAFileWithHolesHasThemToo(t *testing.T) {
	near, far := t.TempDir(), machine.OtherDisk(t)
	r := rand.New(rand.NewPCG(7, 7))
	for range 40 {
		a, b := filepath.Join(near, "a"), filepath.Join(far, "b")
		written(t, a, r)
		from, err := System{}.OpenSource(near, ".")
		require.NoError(t, err)
		to, err := System{}.Open(far, ".")
		require.NoError(t, err)
		_, err = System{}.Copy(from, "a", to, "b", true)
		require.NoError(t, err)
		is, room := readBack(t, b)
		want, most := readBack(t, a)
		require.True(t, bytes.Equal(want, is))
		require.LessOrEqual(t, room, most+8, "blocks of 512 bytes")
		from.Close()
		to.Close()
		require.NoError(t, os.Remove(b))
	}
}
