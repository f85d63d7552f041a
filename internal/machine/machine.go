// Package machine gives tests what they need of the machine. Where that is missing, a test
// skips with a word; where STILLTIDE_NO_SKIP is set, as in the project's own check, it fails.
package machine

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
)

// memory is where Linux has a file system in memory.
const memory = "/dev/shm"

// Lacks ends a test for which something is missing.
func Lacks(t testing.TB, what string) {
	t.Helper()
	if os.Getenv("STILLTIDE_NO_SKIP") != "" {
		t.Fatal(what)
	}
	t.Skip(what)
}

// Worlds is in how many generated worlds a test tries something: n, or an eighth of them under the race detector,
// which is twenty times slower, and looks for something else.
func Worlds(n int) int {
	if raceDetector {
		return max(n/8, 1)
	}
	return n
}

// Program returns the path of an installed program.
func Program(t testing.TB, name string) string {
	t.Helper()
	path, err := exec.LookPath(name)
	if err != nil {
		Lacks(t, name+" is not installed")
	}
	return path
}

// OtherDisk returns an empty folder on another file system than the test's own folder.
func OtherDisk(t testing.TB) string {
	t.Helper()
	own := device(t, os.TempDir())
	for _, at := range []string{memory, "/tmp", "/var/tmp"} {
		if dir, err := os.MkdirTemp(at, "stilltide-"); err == nil {
			t.Cleanup(func() { os.RemoveAll(dir) })
			if device(t, dir) != own {
				return dir
			}
		}
	}
	Lacks(t, "there is no second file system here")
	return ""
}

// Memory returns an empty folder in memory, or on the disk where that is not there.
func Memory(t testing.TB) string {
	t.Helper()
	dir, err := os.MkdirTemp(memory, "stilltide-")
	if err != nil {
		return t.TempDir()
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	return dir
}

// Build puts a program of this project into a new folder, for tests that start it. It asks go
// run, which keeps what it has linked; go build would link it anew for each package of tests.
func Build(pkg string) (program string, err error) {
	dir, err := os.MkdirTemp("", "stilltide-built-")
	if err != nil {
		return "", err
	}
	program = filepath.Join(dir, filepath.Base(pkg))
	command := exec.Command("go", "run", "-exec", "cp", pkg, program)
	command.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := command.CombinedOutput(); err != nil {
		return "", fmt.Errorf("%s was not built: %w: %s", pkg, err, out)
	}
	return program, nil
}
