package lend

import (
	"crypto/sha256"
	"encoding/hex"
	"os"
	"path/filepath"
	"testing"
	"time"

	"stilltide/internal/wire"

	"github.com/stretchr/testify/require"
)

// Files that travel along are kept by content, the most recently used of them; one that was
// harmed is fetched anew.
func TestKept(t *testing.T) {
	k, err := openKept(t.TempDir(), 25)
	require.NoError(t, err)
	from := &wire.Receiver{Most: 1 << 20}
	put := func(text string) error {
		item := keptItem("work/x", text)
		to := filepath.Join(t.TempDir(), "work/x")
		err := k.put(t.Context(), from, item, to)
		got, _ := os.ReadFile(to)
		require.Equal(t, text, string(got))
		return err
	}
	require.NoError(t, put("ten bytes1"))
	require.NoError(t, put("ten bytes2"))
	require.NoError(t, os.Chtimes(filepath.Join(k.folder, keptSum("ten bytes1")), time.Unix(1, 0), time.Unix(1, 0)))
	require.NoError(t, put("ten bytes3"))
	entries, err := os.ReadDir(k.folder)
	require.NoError(t, err)
	require.Len(t, entries, 2)
	require.NoFileExists(t, filepath.Join(k.folder, keptSum("ten bytes1")))
	path := filepath.Join(k.folder, keptSum("ten bytes3"))
	require.NoError(t, os.WriteFile(path, []byte("harmed"), 0o600))
	require.NoError(t, put("ten bytes3"))
	item := keptItem("x", "ten bytes4")
	item.SHA = "../../etc/passwd"
	require.Error(t, k.put(t.Context(), from, item, filepath.Join(t.TempDir(), "x")))
}

func keptItem(path, text string) wire.Item {
	return wire.Item{Path: path, Size: int64(len(text)), Mode: 0o600, SHA: keptSum(text), Inline: []byte(text)}
}

func keptSum(text string) string {
	sum := sha256.Sum256([]byte(text))
	return hex.EncodeToString(sum[:])
}

// A helper must be told for whom it works, by keys that are some.
func TestATrustThatIsNone(t *testing.T) {
	dir := t.TempDir()
	_, err := wire.MakeKey(filepath.Join(dir, "helper.nk"))
	require.NoError(t, err)
	o := Lending{Access: wire.Access{Servers: []string{"nats://127.0.0.1:4222"}, KeyFile: filepath.Join(dir,
		"helper.nk")},
		Folder: filepath.Join(dir, "lent"), Said: func(string) {}}
	_, err = New(o)
	require.ErrorContains(t, err, "--trust KEY")
	o.Trusted = []string{"garbage"}
	_, err = New(o)
	require.ErrorContains(t, err, "garbage is no public key")
	require.NoDirExists(t, o.Folder)
}
