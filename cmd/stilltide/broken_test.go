//go:build linux

package main

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// Whichever page of the ledger is broken: a sweep ends, by itself, and the files are whole.
func TestASweepEndsWithABrokenLedger(t *testing.T) {
	t.Parallel()
	program, err := built()
	require.NoError(t, err)
	dir := t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(dir, "in"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "stilltide.yaml"),
		[]byte("version: 1\ndefaults: {debounce: 0s}\nrules:\n  - {name: all, watch: in, processed: out, match: "+
			"\"*.go\"}\n  - {name: rest, watch: in}\n"), 0o644))
	for i := range 600 {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "in", fmt.Sprint("a file with a name of some length ",
			i)), nil, 0o644))
	}
	sweep := func() (string, error) {
		ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
		defer cancel()
		c := exec.CommandContext(ctx, program, "sweep")
		c.Dir = dir
		said, err := c.CombinedOutput()
		require.NoError(t, ctx.Err(), "it did not end: %s", said)
		return string(said), err
	}
	_, err = sweep()
	require.NoError(t, err)
	path := filepath.Join(dir, ".stilltide", "ledger.sqlite")
	whole, err := os.ReadFile(path)
	require.NoError(t, err)
	const page = 4096
	r := rand.New(rand.NewPCG(1, 2))
	refused, tried := 0, 0
	for at := page; at+page <= len(whole); at += page * (1 + r.IntN(4)) {
		tried++
		text := append([]byte(nil), whole...)
		for i := at + 8; i < at+page; i++ {
			text[i] = byte(r.Uint32())
		}
		require.NoError(t, os.WriteFile(path, text, 0o600))
		for _, more := range []string{"-wal", "-shm"} {
			os.Remove(path + more)
		}
		for i := range 3 {
			require.NoError(t, os.WriteFile(filepath.Join(dir, "in", fmt.Sprintf("new %d %d", at, i)), []byte("x"),
				0o644))
		}
		if said, err := sweep(); err != nil {
			refused++
			require.Contains(t, said, "it was left as it is", "page %d", at/page)
		}
		for i := range 3 {
			require.FileExists(t, filepath.Join(dir, "in", fmt.Sprintf("new %d %d", at, i)))
		}
	}
	t.Logf("%d pages broken, %d sweeps that said so", tried, refused)
	require.Positive(t, refused)
}
