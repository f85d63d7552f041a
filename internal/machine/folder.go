package machine

import (
	"fmt"
	"os"
	"runtime/debug"
	"testing"
)

// collectAt is GOGC for tests: they end before much garbage has gathered.
const collectAt = 400

// Tests are those of a package, in one folder for all that they put anywhere: in memory where there is room,
// as making and removing thousands of files keeps a disk busy for longer than the program takes.
// Where TMPDIR is set it is there. Nothing of it is left at the end.
type Tests struct{ M *testing.M }

// Run runs them, and returns the program's exit code.
func (t Tests) Run() int {
	at := os.Getenv("TMPDIR")
	if at == "" && roomInMemory() {
		at = memory
	}
	dir, err := os.MkdirTemp(at, "st-")
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	defer os.RemoveAll(dir)
	if err := os.Setenv("TMPDIR", dir); err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	debug.SetGCPercent(collectAt)
	return t.M.Run()
}
