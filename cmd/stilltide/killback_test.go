//go:build linux

package main

import (
	"bytes"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"stilltide/internal/machine"
)

// Undo and retry that are ended by force, between two disks: said again, they go on, and the
// file is whole in one place, at each end of the way.
func TestKilledUndoAndRetry(t *testing.T) {
	t.Parallel()
	program, err := built()
	require.NoError(t, err)
	far := machine.OtherDisk(t)
	near := t.TempDir()
	for _, dir := range []string{"in", "locks"} {
		require.NoError(t, os.Mkdir(filepath.Join(near, dir), 0o755))
	}
	rules := "version: 1\ndefaults: {debounce: 0s, retry: 0}\nrules:\n" +
		"  - {name: steps, watch: in, match: \"*.ok\", do: [{move: " + far + "/mid}, {move: mid}], processed: " +
		far + "/out}\n" +
		"  - {name: fails, watch: in, match: \"*.bad\", run: \"false\", failed: " + far + "/failed}\n"
	require.NoError(t, os.WriteFile(filepath.Join(near, "stilltide.yaml"), []byte(rules), 0o644))
	content := bytes.Repeat([]byte("a page of the survey\n"), 100_000)
	run := func(args ...string) (string, error) {
		c := exec.Command(program, args...)
		c.Dir = near
		said, err := c.CombinedOutput()
		return string(said), err
	}
	r := rand.New(rand.NewPCG(7, 7))
	killed := 0
	cut := func(args ...string) {
		c := exec.Command(program, args...)
		c.Dir = near
		require.NoError(t, c.Start())
		stop := time.AfterFunc(time.Duration(r.IntN(45))*time.Millisecond, func() { _ = c.Process.Kill() })
		if c.Wait() != nil && !c.ProcessState.Exited() {
			killed++
		}
		stop.Stop()
	}
	at := func() (paths []string) {
		for _, dir := range []string{near, far} {
			_ = filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
				switch {
				case err != nil:
				case d.Name() == ".stilltide":
					return fs.SkipDir
				case strings.HasPrefix(d.Name(), ".stilltide-"), strings.HasSuffix(path, ".ok"),
					strings.HasSuffix(path, ".bad"):
					paths = append(paths, path)
				}
				return nil
			})
		}
		return paths
	}
	check := func(what string, want ...string) {
		require.Equal(t, want, at(), what)
		have, err := os.ReadFile(want[0])
		require.NoError(t, err)
		require.True(t, bytes.Equal(content, have), what)
	}
	rounds := 8
	for range rounds {
		home := filepath.Join(near, "in", "x.ok")
		require.NoError(t, os.WriteFile(home, content, 0o644))
		said, err := run("sweep", "--rule", "steps")
		require.NoError(t, err, said)
		check("placed", filepath.Join(far, "out", "x.ok"))
		id := newest(t, run, "steps")
		for range 3 {
			cut("undo", id)
		}
		said, err = run("undo", id)
		if err != nil {
			require.Contains(t, said, "nothing to undo")
		}
		check("undone: "+said, home)
		require.NoError(t, os.Remove(home))

		home = filepath.Join(near, "in", "y.bad")
		require.NoError(t, os.WriteFile(home, content, 0o644))
		said, _ = run("sweep", "--rule", "fails")
		check("failed: "+said, filepath.Join(far, "failed", "y.bad"))
		id = newest(t, run, "fails")
		for range 3 {
			cut("retry", id)
		}
		said, _ = run("retry", id) // it may be queued already
		check("put back: "+said, home)
		said, _ = run("sweep", "--rule", "fails")
		check("failed again: "+said, filepath.Join(far, "failed", "y.bad"))
		require.NoError(t, os.RemoveAll(filepath.Join(far, "failed")))
	}
	t.Logf("%d rounds, %d commands ended by force", rounds, killed)
	require.Positive(t, killed)
}

// newest is the number of the last job of a rule.
func newest(t *testing.T, run func(args ...string) (string, error), rule string) string {
	said, err := run("jobs", "--rule", rule, "--json")
	require.NoError(t, err, said)
	_, after, ok := strings.Cut(said, `"id":`)
	require.True(t, ok, said)
	id, _, _ := strings.Cut(after, ",")
	return id
}
