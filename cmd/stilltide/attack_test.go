//go:build linux

package main

import (
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

var attacks = flag.Int("attack.times", 60, "how often an attack is tried")

// While files are taken from subfolders, each subfolder is swapped for a link to a folder of
// somebody else, at a random moment. Nothing of that folder is touched, by watch or by undo.
func TestSwappedSubfolders(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	for _, sub := range []string{"in", "victim", "aside"} {
		require.NoError(t, os.Mkdir(filepath.Join(dir, sub), 0o755))
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "stilltide.yaml"), []byte(`version: 1
defaults: {debounce: 15ms, retry: 0}
rules:
  - {name: moved, watch: in, depth: all, match: "*.a", processed: out}
  - {name: worked, watch: in, depth: all, match: "*.b", do: [{copy: copies}, {rename: "{stem}.c"}, {move: out}]}
  - {name: thrown, watch: in, depth: all, match: "*.d", do: [{discard: delete}]}
`), 0o644))
	w := startWatcher(t, dir)
	r := rand.New(rand.NewPCG(3, 4))
	write := func(path, text string) { require.NoError(t, os.WriteFile(path, []byte(text), 0o644)) }
	victims := map[string]string{}
	for i := range *attacks {
		name := fmt.Sprintf("f%d.%c", i, "abd"[i%3])
		victims[name] = fmt.Sprint("theirs ", i)
		write(filepath.Join(dir, "victim", name), victims[name])
		sub := filepath.Join(dir, "in", fmt.Sprint("s", i))
		require.NoError(t, os.Mkdir(sub, 0o755))
		write(filepath.Join(sub, name), "mine")
		time.Sleep(time.Duration(r.IntN(40)) * time.Millisecond) // some moment of its way
		require.NoError(t, os.Rename(sub, filepath.Join(dir, "aside", fmt.Sprint(i))))
		require.NoError(t, os.Symlink("../victim", sub))
	}
	write(filepath.Join(dir, "in", "end.a"), "the end")
	require.Eventually(t, func() bool {
		_, err := os.Stat(filepath.Join(dir, "out", "end.a"))
		return err == nil
	}, patience, 10*time.Millisecond)
	w.stop()
	program, err := built()
	require.NoError(t, err)
	for id := range *attacks { // where a job's folder is a link now, it cannot be undone
		undo := exec.Command(program, "undo", fmt.Sprint(id+1))
		undo.Dir = dir
		_ = undo.Run()
	}
	have, err := os.ReadDir(filepath.Join(dir, "victim"))
	require.NoError(t, err)
	require.Len(t, have, len(victims), "nothing came, nothing went")
	for name, text := range victims {
		got, err := os.ReadFile(filepath.Join(dir, "victim", name))
		require.NoError(t, err)
		require.Equal(t, text, string(got))
	}
	for _, sub := range []string{"out", "copies"} {
		files, _ := os.ReadDir(filepath.Join(dir, sub))
		for _, f := range files {
			text, err := os.ReadFile(filepath.Join(dir, sub, f.Name()))
			require.NoError(t, err)
			require.False(t, strings.HasPrefix(string(text), "theirs"), f.Name())
		}
	}
	t.Logf("%d folders swapped", *attacks)
}
