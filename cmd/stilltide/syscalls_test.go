//go:build linux

package main

import (
	"context"
	"flag"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"stilltide/internal/machine"
)

var everyError = flag.Bool("fault.all", false, "let each system call fail with each error, not some of them with one")

// Each system call that touches the files of a job, or the ledger, fails once (strace(1)
// injects it). Whatever that is: the content is whole in one place, and the next sweep, with
// the disk well again, finishes and leaves nothing over.
func TestEverySystemCallFailsOnce(t *testing.T) {
	t.Parallel()
	strace := tracing(t)
	program, err := built()
	require.NoError(t, err)
	errs := []string{"EIO", "ENOSPC", "EACCES", "EINTR"}
	calls := []string{"renameat2", "openat", "newfstatat", "fstat", "fsync", "pwrite64", "write", "copy_file_range",
		"unlinkat", "mkdirat", "linkat", "utimensat", "fchmod", "fchown", "getdents64", "read", "lseek",
		"ftruncate"}
	n, failed := 0, 0
	for _, call := range calls {
		for at := 1; at <= 4; at++ {
			if !*everyError && at%4 != len(call)%4 {
				continue
			}
			for i, fault := range errs {
				if !*everyError && i != (at+len(call))%len(errs) {
					continue
				}
				n++
				if faults(t, strace, program, call, "error="+fault, strconv.Itoa(at), 1) {
					failed++
				}
			}
		}
	}
	t.Logf("%d faults, %d sweeps that said so", n, failed)
	require.Positive(t, failed)
}

// A disk that goes on failing over several starts: nothing is lost in any of them, and the
// first start with the disk well again finishes, with nothing hidden and nothing twice.
func TestCallsThatFailOverSeveralStarts(t *testing.T) {
	t.Parallel()
	strace := tracing(t)
	program, err := built()
	require.NoError(t, err)
	for _, one := range []struct{ call, when string }{
		{"unlinkat", "1+"}, {"getdents64", "1+"}, {"getdents64", "2+2"}, {"renameat2", "1+"}, {"renameat2", "1+2"},
		{"renameat2", "2+2"}, {"fsync", "1+"}, {"copy_file_range", "1+"}, {"mkdirat", "1+"},
	} {
		t.Run(one.call+" "+one.when, func(t *testing.T) {
			faults(t, strace, program, one.call, "error=EIO",
				one.when, 3)
		})
	}
}

// tracing returns strace(1), or skips the test.
func tracing(t *testing.T) string {
	strace := machine.Program(t, "strace")
	if err := exec.Command(strace, "-o", "/dev/null", "true").Run(); err != nil {
		machine.Lacks(t, "tracing is not allowed here: "+err.Error())
	}
	return strace
}

// A folder is watched before it is opened to be listed: what comes to one that is open need not be listed, and what
// comes to one that is not watched is not told.
func TestAFolderIsWatchedBeforeItIsOpened(t *testing.T) {
	t.Parallel()
	program, err := built()
	require.NoError(t, err)
	dir, trace := t.TempDir(), filepath.Join(t.TempDir(), "trace")
	put(t, dir, "stilltide.yaml", "version: 1\nrules:\n  - {name: off, watch: in, depth: all, processed: done}\n")
	folders := []string{"in", "in/a", "in/a/b", "in/c"}
	for _, folder := range folders {
		require.NoError(t, os.MkdirAll(filepath.Join(dir, folder), 0o777))
	}
	w := &watcher{t: t, dir: dir, cmd: exec.Command(tracing(t), "-D", "-f", "-o", trace, "-e",
		"trace=inotify_add_watch,openat", program, "watch")}
	w.start(nil)
	require.Eventually(t, func() bool { return strings.Contains(w.said(), "ready: ") }, patience, 5*time.Millisecond)
	w.stop()
	text, err := os.ReadFile(trace)
	require.NoError(t, err)
	for _, folder := range folders {
		path := `"` + filepath.Join(dir, folder) + `"`
		watched := regexp.MustCompile(`inotify_add_watch\(\d+, ` + path).FindIndex(text)
		opened := regexp.MustCompile(`openat\(AT_FDCWD, ` + path + `, O_RDONLY`).FindIndex(text)
		require.NotNil(t, watched, folder)
		require.NotNil(t, opened, folder)
		require.Less(t, watched[0], opened[0], folder)
	}
}

// faults lets calls fail in some sweeps over a new world, one after the other; when says
// which, as strace does: 3 is the third, 2+ all from the second on, 1+2 every other. It tells
// whether the last of the sweeps ended with an error.
func faults(t *testing.T, strace, program, call, fault, when string, sweeps int) (failed bool) {
	near := t.TempDir()
	far := machine.OtherDisk(t)
	what := fmt.Sprintf("%s: %s (when=%s)", call, fault, when)
	put := func(path, text string) {
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
	}
	put(filepath.Join(near, "stilltide.yaml"), `version: 1
defaults: {debounce: 0s, retry: {times: 3, delay: 10ms}}
rules:
  - {name: box, watch: in, unit: folder, processed: `+far+`/boxes}
  - {name: far, watch: in, match: "*.far", processed: `+far+`/files}
  - {name: near, watch: in, match: "*.near", do: [{copy: copies}, {rename: "{stem}.done"}], processed: done}
`)
	put(filepath.Join(near, "in/a.far"), "far")
	put(filepath.Join(near, "in/b.near"), "near")
	put(filepath.Join(near, "in/box/one"), "one")
	put(filepath.Join(near, "in/box/sub/two"), "two")
	args := []string{"-f", "--seccomp-bpf", "-o", "/dev/null", "-e", "trace=" + call,
		"-e", fmt.Sprintf("inject=%s:%s:when=%s", call, fault, when)}
	for _, path := range []string{"in", "in/a.far", "in/b.near", "in/box", "in/box/one", "in/box/sub", "copies",
		"done", ".stilltide/ledger.sqlite", ".stilltide/ledger.sqlite-wal"} {
		args = append(args, "-P", filepath.Join(near, path))
	}
	for _, path := range []string{"boxes", "files"} {
		args = append(args, "-P", filepath.Join(far, path))
	}
	var said []byte
	var runErr error
	for range sweeps {
		ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
		c := exec.CommandContext(ctx, strace, append(args, program, "sweep")...)
		c.Dir, c.WaitDelay = near, time.Second
		said, runErr = c.CombinedOutput()
		require.NoError(t, ctx.Err(), "it did not end: %s\n%s", what, said)
		cancel()
		wholeSomewhere(t, near, far, what+"\n"+string(said))
	}
	var again []byte
	want := map[string]string{far + "/boxes/box/one": "one", far + "/boxes/box/sub/two": "two",
		far + "/files/a.far": "far", near + "/done/b.done": "near", near + "/copies/b.near": "near"}
	for end := time.Now().Add(30 * time.Second); time.Now().Before(end) && !maps.Equal(want,
		filesBelow(t, near, far)); {
		// What failed for good is retried; what waits for its next attempt is due soon.
		_ = exec.Command(program, "--config", filepath.Join(near, "stilltide.yaml"), "retry", "--failed").Run()
		s := exec.Command(program, "sweep")
		s.Dir = near
		text, _ := s.CombinedOutput()
		again = append(again, text...)
	}
	require.Equal(t, want, filesBelow(t, near, far), "%s\n%s\nagain:\n%s", what, said, again)
	return runErr != nil
}

// wholeSomewhere checks that each content is there.
func wholeSomewhere(t *testing.T, near, far, what string) {
	have := map[string]bool{}
	for _, text := range filesBelow(t, near, far) {
		have[text] = true
	}
	for _, text := range []string{"far", "near", "one", "two"} {
		require.True(t, have[text], "%q is gone: %s", text, what)
	}
}

// filesBelow reads all files, hidden ones too, but for the state folder.
func filesBelow(t *testing.T, dirs ...string) map[string]string {
	found := map[string]string{}
	for _, dir := range dirs {
		require.NoError(t, filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
			if err != nil || d.Name() == ".stilltide" {
				return fs.SkipDir
			}
			if strings.HasPrefix(d.Name(), ".stilltide-") {
				found[path] = "left over"
			}
			if d.Type().IsRegular() && d.Name() != "stilltide.yaml" {
				text, err := os.ReadFile(path)
				require.NoError(t, err)
				found[path] = string(text)
			}
			return nil
		}))
	}
	return found
}
