// Command faults asks whether the tests would notice. It copies the project, puts one fault
// after the other into the copy, each of which undoes what keeps a promise, and runs the test
// that stands for that promise: it must fail.
//
//	go run ./faults [--only TEXT] [--from N] [--list]
package main

import (
	"errors"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"
)

// Fault is one change to the code, and the test that must fail with it.
type Fault struct {
	What string   // the promise that is broken
	File string   // below the project's folder
	Old  string   // stands there once
	New  string   // what takes its place
	Test []string // arguments of go test
}

func main() {
	only := flag.String("only", "", "only faults whose promise or file holds this text")
	from := flag.Int("from", 1, "begin with the fault of this number")
	list := flag.Bool("list", false, "print the promises, and change nothing")
	flag.Parse()
	if err := run(*only, *from, *list); err != nil {
		fmt.Fprintln(os.Stderr, "faults:", err)
		os.Exit(1)
	}
}

func run(only string, from int, list bool) error {
	dir, err := os.MkdirTemp("", "stilltide-faults-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	if err := copyProject(dir); err != nil {
		return err
	}
	missed := 0
	for i, f := range faults {
		if i+1 < from || !strings.Contains(f.What+" "+f.File, only) {
			continue
		}
		if list {
			fmt.Println(f.What)
			continue
		}
		begun := time.Now()
		how, err := try(dir, f)
		if err != nil {
			how = "UNSOUND"
			fmt.Println(err)
		}
		if how != "noticed" {
			missed++
		}
		fmt.Printf("%-10s %5.1f s  %s\n", how, time.Since(begun).Seconds(), f.What)
	}
	if missed > 0 {
		return fmt.Errorf("%d faults were not noticed, or are not sound", missed)
	}
	return nil
}

// copyProject copies the files that are under version control.
func copyProject(dir string) error {
	out, err := exec.Command("git", "ls-files", "-z").Output()
	if err != nil {
		return fmt.Errorf("git ls-files: %w", err)
	}
	for _, name := range strings.Split(strings.TrimSuffix(string(out), "\x00"), "\x00") {
		content, err := os.ReadFile(name)
		if errors.Is(err, os.ErrNotExist) {
			continue
		}
		if err != nil {
			return err
		}
		info, err := os.Stat(name)
		if err != nil {
			return err
		}
		to := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(to, content, info.Mode().Perm()); err != nil {
			return err
		}
	}
	return nil
}

// try puts a fault into the copy, runs its test, and takes the fault out again. It tells
// whether the test noticed it.
func try(dir string, f Fault) (how string, err error) {
	path := filepath.Join(dir, f.File)
	before, err := os.ReadFile(path)
	if err != nil {
		return "", err
	}
	if n := strings.Count(string(before), f.Old); n != 1 {
		return "", fmt.Errorf("%s holds %q %d times, and must hold it once", f.File, f.Old, n)
	}
	if err := os.WriteFile(path, []byte(strings.Replace(string(before), f.Old, f.New, 1)), 0o644); err != nil {
		return "", err
	}
	defer func() { err = errors.Join(err, os.WriteFile(path, before, 0o644)) }()
	build := exec.Command("go", "vet", "./"+filepath.Dir(f.File))
	build.Dir = dir
	if out, err := build.CombinedOutput(); err != nil {
		return "", fmt.Errorf("with the fault %s is not sound: %s", f.File, out)
	}
	test := exec.Command("go", append([]string{"test", "-count=1"}, f.Test...)...)
	test.Dir = dir
	out, err := test.CombinedOutput()
	switch {
	case err == nil && !ranAny(string(out)):
		return "", fmt.Errorf("there is no such test: %v", f.Test)
	case err == nil:
		return "NOT SEEN", nil
	case strings.Contains(string(out), "[build failed]"):
		return "", fmt.Errorf("the test cannot be built: %s", out)
	}
	return "noticed", nil
}

// ranAny reports whether any package ran a test.
func ranAny(out string) bool {
	for _, line := range strings.Split(out, "\n") {
		if strings.HasPrefix(line, "ok") && !strings.Contains(line, "[no tests to run]") {
			return true
		}
	}
	return false
}
