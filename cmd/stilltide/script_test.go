package main

import (
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/rogpeppe/go-internal/testscript"

	"stilltide/internal/cli"
)

func TestMain(m *testing.M) {
	testscript.Main(m, map[string]func(){
		"stilltide": func() { os.Exit(cli.Main(os.Args[1:], os.Stdin, os.Stdout, os.Stderr)) },
	})
}

// TestScripts drives the real program on files in a temporary folder: one
// script for each task that a user has.
func TestScripts(t *testing.T) {
	testscript.Run(t, testscript.Params{
		Dir: "testdata/script",
		Setup: func(e *testscript.Env) error {
			e.Setenv("XDG_CONFIG_HOME", filepath.Join(e.WorkDir, "config"))
			e.Setenv("TMPDIR", filepath.Join(e.WorkDir, ".tmp"))
			return os.MkdirAll(filepath.Join(e.WorkDir, ".tmp"), 0o777)
		},
		Cmds: map[string]func(*testscript.TestScript, bool, []string){
			"waitfor": waitFor,
			"files":   countFiles,
			"fill":    fillFolder,
			"replace": replaceText,
		},
	})
}

// waitFor waits until all the files are there (or, negated, gone). With
// -text TEXT FILE it waits until the file holds the text.
func waitFor(ts *testscript.TestScript, neg bool, args []string) {
	text := ""
	if len(args) > 2 && args[0] == "-text" {
		text, args = args[1], args[2:]
	}
	for end := time.Now().Add(20 * time.Second); ; time.Sleep(5 * time.Millisecond) {
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
			ts.Fatalf("waited 20 s for %s", missing)
		}
	}
}

// countFiles checks that a folder holds so many files.
func countFiles(ts *testscript.TestScript, neg bool, args []string) {
	want, err := strconv.Atoi(args[1])
	ts.Check(err)
	entries, err := os.ReadDir(ts.MkAbs(args[0]))
	if !os.IsNotExist(err) {
		ts.Check(err)
	}
	if (len(entries) == want) == neg {
		ts.Fatalf("%s holds %d files, wanted %d (or not)", args[0], len(entries), want)
	}
}

// fillFolder makes many small files: fill FOLDER COUNT.
func fillFolder(ts *testscript.TestScript, _ bool, args []string) {
	n, err := strconv.Atoi(args[1])
	ts.Check(err)
	for i := range n {
		ts.Check(os.WriteFile(filepath.Join(ts.MkAbs(args[0]), "file-"+strconv.Itoa(i)+".txt"), []byte(strconv.Itoa(i)+"\n"), 0o666))
	}
}

// replaceText changes a file in place: replace FILE OLD NEW.
func replaceText(ts *testscript.TestScript, _ bool, args []string) {
	path := ts.MkAbs(args[0])
	content, err := os.ReadFile(path)
	ts.Check(err)
	ts.Check(os.WriteFile(path, []byte(strings.ReplaceAll(string(content), args[1], args[2])), 0o666))
}
