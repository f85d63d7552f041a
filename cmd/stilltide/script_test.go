package main

import (
	"crypto/sha256"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/rogpeppe/go-internal/testscript"

	"stilltide/internal/cli"
	"stilltide/internal/machine"
	"stilltide/internal/standin/share"
)

// patience is how long a test waits for what must come. It is no bound on the program: a
// machine may be busy with much else.
const patience = 2 * time.Minute

func TestMain(m *testing.M) {
	share.Serve()                       // returns, unless this process was started to serve one
	_ = flag.Set("test.parallel", "12") // most of them wait most of the time
	testscript.Main(machine.Tests{M: m}, map[string]func(){
		"stilltide": func() { os.Exit(cli.Main(os.Args[1:], os.Stdin, os.Stdout, os.Stderr)) },
	})
}

// TestScripts drives the real program on files in a temporary folder: one
// script for each task that a user has.
func TestScripts(t *testing.T) {
	t.Parallel()
	testscript.Run(t, testscript.Params{
		Dir: "testdata/script", Setup: setupScript, Cmds: scriptCommands, Condition: condition,
	})
}

// setupScript keeps a script away from the user's own folders.
func setupScript(e *testscript.Env) error {
	e.Setenv("XDG_CONFIG_HOME", filepath.Join(e.WorkDir, "config"))
	e.Setenv("XDG_DATA_HOME", filepath.Join(e.WorkDir, "data"))
	e.Setenv("TMPDIR", filepath.Join(e.WorkDir, ".tmp"))
	program, err := built() // it starts in half the time of the one that holds the tests
	if err != nil {
		return err
	}
	e.Setenv("PATH", filepath.Dir(program)+string(os.PathListSeparator)+e.Getenv("PATH"))
	return os.MkdirAll(filepath.Join(e.WorkDir, ".tmp"), 0o777)
}

// condition knows what a machine must allow for some scripts: [root], [userns].
func condition(name string) (bool, error) {
	switch name {
	case "root":
		return os.Getuid() == 0, nil
	case "userns":
		return exec.Command("unshare", "-Ur", "true").Run() == nil, nil
	}
	return false, fmt.Errorf("there is no condition %q", name)
}

// scriptCommands are what the scripts have beyond testscript's own.
var scriptCommands = map[string]func(*testscript.TestScript, bool, []string){
	"waitfor": waitFor,
	"until":   until,
	"files":   countFiles,
	"fill":    fillFolder,
	"replace": replaceText,
	"runs":    checkRuns,
	"hostile": hostileNames,
	"receive": receive,
	"bundle":  bundle,
}

// hostileNames makes files whose names try to be more than names: hostile FOLDER.
func hostileNames(ts *testscript.TestScript, _ bool, args []string) {
	for _, name := range []string{
		"with spaces", `"quoted" 'twice'`, "new\nline", "\x1b[31mred\x1b]0;title\a", "bad\xff\xfeutf8",
		"{name} {file}", "-rf", "--help",
		"$(touch pwned)", "`touch pwned`; touch pwned", "..\\..\\pwned", "*?[a]",
	} {
		ts.Check(os.WriteFile(filepath.Join(ts.MkAbs(args[0]), name), []byte("content\n"), 0o666))
	}
}

// waitFor waits until all the files are there (or, negated, gone). With
// -text TEXT FILE it waits until the file holds the text.
func waitFor(ts *testscript.TestScript, neg bool, args []string) {
	text := ""
	if len(args) > 2 && args[0] == "-text" {
		text, args = args[1], args[2:]
	}
	for end := time.Now().Add(patience); ; time.Sleep(5 * time.Millisecond) {
		missing := ""
		for _, name := range args {
			content, err := os.ReadFile(ts.MkAbs(name))
			there := !os.IsNotExist(err) && strings.Contains(string(content), text)
			if there == neg {
				missing = name
			}
		}
		if missing == "" {
			return
		}
		if time.Now().After(end) {
			ts.Fatalf("waited too long for %s", missing)
		}
	}
}

// until runs a command again and again until what it prints holds a pattern: until PATTERN
// COMMAND [ARG …]; negated, until it does not. stdout is what it printed last. It asks less and
// less often, as asking takes the time that others need.
func until(ts *testscript.TestScript, neg bool, args []string) {
	want := regexp.MustCompile("(?m)" + args[0])
	pause := 10 * time.Millisecond
	for end := time.Now().Add(patience); ; time.Sleep(pause) {
		pause = min(2*pause, 160*time.Millisecond)
		_ = ts.Exec(args[1], args[2:]...) // its status is another question
		if want.MatchString(ts.ReadFile("stdout")) != neg {
			return
		}
		if time.Now().After(end) {
			ts.Fatalf("waited too long for %q in what %s prints", args[0], strings.Join(args[1:], " "))
		}
	}
}

// countFiles checks that a folder comes to hold so many files, or not. A file
// that replaces another one has a hidden name beside it for an instant.
func countFiles(ts *testscript.TestScript, neg bool, args []string) {
	want, err := strconv.Atoi(args[1])
	ts.Check(err)
	for end := time.Now().Add(patience); ; time.Sleep(5 * time.Millisecond) {
		entries, err := os.ReadDir(ts.MkAbs(args[0]))
		if !os.IsNotExist(err) {
			ts.Check(err)
		}
		if (len(entries) == want) != neg {
			return
		}
		if time.Now().After(end) {
			ts.Fatalf("%s holds %d files, wanted %d (or not)", args[0], len(entries), want)
		}
	}
}

// fillFolder makes many small files: fill FOLDER COUNT.
func fillFolder(ts *testscript.TestScript, _ bool, args []string) {
	n, err := strconv.Atoi(args[1])
	ts.Check(err)
	for i := range n {
		ts.Check(os.WriteFile(filepath.Join(ts.MkAbs(args[0]), "file-"+strconv.Itoa(i)+".txt"),
			[]byte(strconv.Itoa(i)+"\n"), 0o666))
	}
}

// checkRuns waits until the log of runs holds so many lines for a file, the
// last with the checksum that the file has now, and no more a moment later.
func checkRuns(ts *testscript.TestScript, _ bool, args []string) {
	want, err := strconv.Atoi(args[1])
	ts.Check(err)
	count := func() (n int, last string) {
		log, err := os.ReadFile(ts.MkAbs("runs.txt"))
		if err != nil && !os.IsNotExist(err) {
			ts.Fatalf("%v", err)
		}
		for _, line := range strings.Split(string(log), "\n") {
			if name, sum, ok := strings.Cut(line, " "); ok && name == args[0] {
				n, last = n+1, sum
			}
		}
		return n, last
	}
	for end := time.Now().Add(patience); ; time.Sleep(5 * time.Millisecond) {
		if n, _ := count(); n >= want {
			break
		}
		if time.Now().After(end) {
			n, _ := count()
			ts.Fatalf("%s ran %d times, wanted %d", args[0], n, want)
		}
	}
	content, err := os.ReadFile(ts.MkAbs("in/" + args[0]))
	ts.Check(err)
	now := fmt.Sprintf("%x", sha256.Sum256(content))
	if n, last := count(); n != want || last != now {
		ts.Fatalf("%s ran %d times, wanted %d; it saw %s, and the file is %s", args[0], n, want, last, now)
	}
}

// replaceText changes a file in place: replace FILE OLD NEW.
func replaceText(ts *testscript.TestScript, _ bool, args []string) {
	path := ts.MkAbs(args[0])
	content, err := os.ReadFile(path)
	ts.Check(err)
	ts.Check(os.WriteFile(path, []byte(strings.ReplaceAll(string(content), args[1], args[2])), 0o666))
}
