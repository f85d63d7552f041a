package main

import (
	"archive/zip"
	"bytes"
	"flag"
	"fmt"
	"io/fs"
	"maps"
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

var endedTwice = flag.Uint64("ended.twice", 0,
	"end the program once more, at a call drawn with this seed, when it goes on")

// ending is one job, and the command amid which the program is ended by force. FAR in its
// rules, and in its paths, is a folder on another disk.
type ending struct {
	name   string
	rule   string
	files  map[string]string
	before [][]string // commands that are not disturbed
	amid   []string
	want   map[string]string // once the command was said again
}

// endings are jobs of each kind: one rule, one job, so that call N is always the same.
var endings = []ending{
	{name: "move", rule: `{watch: in, processed: done}`, files: map[string]string{"in/a": "a"},
		amid: []string{"sweep"}, want: map[string]string{"done/a": "a"}},
	{name: "to another disk", rule: `{watch: in, processed: FAR/done}`, files: map[string]string{"in/a": "a"},
		amid: []string{"sweep"}, want: map[string]string{"FAR/done/a": "a"}},
	{name: "folder to another disk", rule: `{watch: in, unit: folder, processed: FAR/done}`,
		files: map[string]string{"in/box/one": "one", "in/box/sub/two": "two"},
		amid:  []string{"sweep"}, want: map[string]string{"FAR/done/box/one": "one",
			"FAR/done/box/sub/two": "two"}},
	{name: "steps", rule: `{watch: in, do: [{copy: copies}, {rename: "{stem}.done"}, {write: copies, as: "{name}.ok", content: ok}], processed: done}`, files: map[string]string{"in/a.txt": "a"},
		amid: []string{"sweep"}, want: map[string]string{"copies/a.txt": "a", "done/a.done": "a",
			"copies/a.done.ok": "ok"}},
	{name: "replace", rule: `{watch: in, processed: done, same_name: replace}`,
		files: map[string]string{"in/a": "new", "done/a": "old"},
		amid:  []string{"sweep"}, want: map[string]string{"done/a": "new"}},
	{name: "the same content", rule: `{watch: in, processed: FAR/done}`, files: map[string]string{"in/a": "a",
		"FAR/done/a": "a"},
		amid: []string{"sweep"}, want: map[string]string{"FAR/done/a": "a"}},
	{name: "unpack", rule: `{watch: in, do: [{unpack: open}], processed: done}`,
		files: map[string]string{"in/a.zip": zipped("one", "sub/two")},
		amid:  []string{"sweep"}, want: map[string]string{"open/one": "one", "open/sub/two": "sub/two",
			"done/a.zip": zipped("one", "sub/two")}},
	{name: "a batch and its " +
		"markers", rule: `{watch: in, match: "*.txt", batch: {quiet: 0s, max_files: 2}, ready: {marker: "{name}.ok"}, processed: FAR/done}`,
		files: map[string]string{"in/a.txt": "a", "in/b.txt": "b", "in/a.txt.ok": "", "in/b.txt.ok": ""},
		amid:  []string{"sweep"},
		want: map[string]string{"FAR/done/a.txt": "a", "FAR/done/b.txt": "b", "FAR/done/a.txt.ok": "",
			"FAR/done/b.txt.ok": ""}},
	{name: "undo of a " +
		"batch", rule: `{watch: in, match: "*.txt", batch: {quiet: 0s, max_files: 2}, do: [{copy: copies}], processed: FAR/done}`, files: map[string]string{"in/a.txt": "a", "in/b.txt": "b"},
		before: [][]string{{"sweep"}}, amid: []string{"undo", "1"}, want: map[string]string{"in/a.txt": "a",
			"in/b.txt": "b"}},
	{name: "retry of a " +
		"batch", rule: `{watch: in, match: "*.txt", batch: {quiet: 0s, max_files: 2}, run: "false", failed: FAR/failed, retry: 0}`, files: map[string]string{"in/a.txt": "a", "in/b.txt": "b"},
		before: [][]string{{"sweep"}}, amid: []string{"retry", "1"}, want: map[string]string{"in/a.txt": "a",
			"in/b.txt": "b"}},
	{name: "to the trash", rule: `{watch: in, do: [{copy: copies}, {discard: trash}]}`,
		files: map[string]string{"in/a": "a"},
		amid:  []string{"sweep"}, want: map[string]string{"copies/a": "a"}},
	{name: "deletion", rule: `{watch: in, do: [{copy: copies}, {discard: delete}]}`,
		files: map[string]string{"in/a": "a"},
		amid:  []string{"sweep"}, want: map[string]string{"copies/a": "a"}},
	{name: "replacement by a " +
		"command", rule: `{watch: in, do: [{run: "env F={file} cp new {scratch}/x"}, {replace_with: "{scratch}/x"}]}`, files: map[string]string{"in/a": "a", "new": "b"},
		amid: []string{"sweep"}, want: map[string]string{"in/a": "b", "new": "b"}},
	{name: "deletion before a step that fails",
		rule:  `{watch: in, do: [{copy: copies}, {discard: delete}, {run: "false"}], retry: 0}`,
		files: map[string]string{"in/a": "a"},
		amid:  []string{"sweep"}, want: map[string]string{"copies/a": "a"}},
	{name: "undo of a move to another disk", rule: `{watch: in, do: [{copy: copies}], processed: FAR/done}`,
		files:  map[string]string{"in/a": "a"},
		before: [][]string{{"sweep"}}, amid: []string{"undo", "1"}, want: map[string]string{"in/a": "a"}},
	{name: "undo of a folder", rule: `{watch: in, unit: folder, processed: FAR/done}`,
		files:  map[string]string{"in/box/one": "one", "in/box/sub/two": "two"},
		before: [][]string{{"sweep"}}, amid: []string{"undo", "1"}, want: map[string]string{"in/box/one": "one",
			"in/box/sub/two": "two"}},
	{name: "undo of a replacement", rule: `{watch: in, processed: done, same_name: replace}`,
		files:  map[string]string{"in/a": "new", "done/a": "old"},
		before: [][]string{{"sweep"}}, amid: []string{"undo", "1"}, want: map[string]string{"in/a": "new",
			"done/a": "old"}},
	{name: "undo of an archive", rule: `{watch: in, do: [{unpack: open}]}`,
		files:  map[string]string{"in/a.zip": zipped("one", "sub/two")},
		before: [][]string{{"sweep"}}, amid: []string{"undo", "1"},
		want: map[string]string{"in/a.zip": zipped("one", "sub/two")}},
	{name: "undo of a replacement on another disk", rule: `{watch: in, processed: FAR/done, same_name: replace}`,
		files:  map[string]string{"in/a": "new", "FAR/done/a": "old"},
		before: [][]string{{"sweep"}}, amid: []string{"undo", "1"}, want: map[string]string{"in/a": "new",
			"FAR/done/a": "old"}},
	{name: "undo of a step that replaces",
		rule:   `{watch: in, do: [{copy: copies, same_name: replace}], processed: done}`,
		files:  map[string]string{"in/a": "new", "copies/a": "old"},
		before: [][]string{{"sweep"}}, amid: []string{"undo", "1"}, want: map[string]string{"in/a": "new",
			"copies/a": "old"}},
	{name: "undo of the same content", rule: `{watch: in, processed: FAR/done}`,
		files:  map[string]string{"in/a": "a", "FAR/done/a": "a"},
		before: [][]string{{"sweep"}}, amid: []string{"undo", "1"}, want: map[string]string{"in/a": "a",
			"FAR/done/a": "a"}},
	{name: "undo out of the trash", rule: `{watch: in, do: [{discard: trash}]}`,
		files:  map[string]string{"in/a": "a"},
		before: [][]string{{"sweep"}}, amid: []string{"undo", "1"}, want: map[string]string{"in/a": "a"}},
	{name: "retry of a folder", rule: `{watch: in, unit: folder, run: "false", failed: FAR/failed, retry: 0}`,
		files:  map[string]string{"in/box/one": "one", "in/box/sub/two": "two"},
		before: [][]string{{"sweep"}}, amid: []string{"retry", "1"}, want: map[string]string{"in/box/one": "one",
			"in/box/sub/two": "two"}},
	{name: "steps that fail, over two disks",
		rule:  `{watch: in, do: [{move: FAR/mid}, {move: mid}, {run: "false"}], failed: failed, retry: 0}`,
		files: map[string]string{"in/a": "a"},
		amid:  []string{"sweep"}, want: map[string]string{"failed/a": "a", "failed/a.failed.txt": "*"}},
	{name: "a folder's step that fails",
		rule:  `{watch: in, unit: folder, do: [{move: FAR/mid}, {run: "false"}], failed: failed, retry: 0}`,
		files: map[string]string{"in/box/one": "one", "in/box/sub/two": "two"},
		amid:  []string{"sweep"}, want: map[string]string{"failed/box/one": "one", "failed/box/sub/two": "two",
			"failed/box.failed.txt": "*"}},
	{name: "retry from another disk", rule: `{watch: in, run: "false", failed: FAR/failed, retry: 0}`,
		files:  map[string]string{"in/a": "a"},
		before: [][]string{{"sweep"}}, amid: []string{"retry", "1"}, want: map[string]string{"in/a": "a"}},
}

func zipped(names ...string) string {
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for _, name := range names {
		f, _ := w.Create(name)
		_, _ = f.Write([]byte(name))
	}
	_ = w.Close()
	return b.String()
}

var eachCall = flag.Bool("ended.each", false, "end the program at each call, or let each fail, not at one of them")

// atCalls tries something at each of the calls of an ending, until there is no such call; or in one of two endings, at
// a call that is drawn.
func atCalls(t *testing.T, try func(at int) reached) {
	if !*eachCall {
		if rand.IntN(2) == 0 {
			return
		}
		at := 1 + rand.IntN(60)
		for r := try(at); r.call == ""; r = try(at) {
			at = 1 + rand.IntN(r.calls)
		}
		t.Logf("at call %d", at)
		return
	}
	at := 1
	for try(at).call != "" {
		at++
	}
	t.Logf("at %d calls", at-1)
	require.Greater(t, at, 1)
}

// The program is ended by force as it is about to make a call that changes files, at every
// such call of a job, an undo and a retry. Nothing is lost then, and the same command said
// again brings everything to where it belongs, once, with nothing left over.
func TestEndedByForceAtEachCall(t *testing.T) {
	t.Parallel()
	mayTrace(t)
	program, err := built()
	require.NoError(t, err)
	for _, e := range endings {
		t.Run(e.name, func(t *testing.T) {
			t.Parallel()
			atCalls(t, func(at int) reached { return e.end(t, program, at, "ended", kill) })
		})
	}
}

// end makes a new world, injects something at a call, says the command again, and looks.
func (e ending) end(t *testing.T, program string, at int, what string, inject injection) reached {
	near, far := t.TempDir(), machine.OtherDisk(t)
	defer os.RemoveAll(near)
	defer os.RemoveAll(far)
	put := strings.NewReplacer("FAR", far)
	path := func(p string) string {
		if p = put.Replace(p); filepath.IsAbs(p) {
			return p
		}
		return filepath.Join(near, p)
	}
	files, want := map[string]string{}, map[string]string{}
	for p, text := range e.files {
		files[path(p)] = text
	}
	for p, text := range e.want {
		want[path(p)] = text
	}
	rules := "version: 1\ndefaults: {debounce: 0s, retry: {times: 3, delay: 10ms}}\nrules:\n  - " +
		strings.Replace(put.Replace(e.rule), "{", "{name: one, ", 1) + "\n"
	require.NoError(t, os.WriteFile(filepath.Join(near, "stilltide.yaml"), []byte(rules), 0o644))
	var said bytes.Buffer
	command := func(args ...string) *exec.Cmd {
		c := exec.Command(program, args...)
		c.Dir, c.Stdout, c.Stderr = near, &said, &said
		c.Env = append(os.Environ(), "XDG_DATA_HOME="+filepath.Join(near, ".stilltide/data")) // where the trash is
		return c
	}
	require.NoError(t, os.Mkdir(filepath.Join(near, "in"), 0o755))
	require.NoError(t, command("sweep").Run(), "which makes the ledger: %s", &said)
	for p, text := range files {
		require.NoError(t, os.MkdirAll(filepath.Dir(p), 0o755))
		require.NoError(t, os.WriteFile(p, []byte(text), 0o644))
	}
	for _, args := range e.before {
		_ = command(args...).Run()
	}
	first := e.cut(t, command(e.amid...), at, inject)
	call := first.call
	if *endedTwice > 0 && call != "" {
		next := rand.New(rand.NewPCG(*endedTwice, uint64(at)))
		call = fmt.Sprint(call, ", then ", e.cut(t, command(e.amid...), 1+next.IntN(40), kill).call)
	}
	for _, text := range e.files {
		require.True(t, somewhere(t, text, near, far), "lost: %s at call %d, %s", what, at, call)
	}
	for end := time.Now().Add(patience); ; {
		_ = command(e.amid...).Run()
		have := filesBelow(t, near, far)
		for p, text := range want {
			if text == "*" && have[p] != "" {
				have[p] = "*" // a failure note
			}
		}
		maps.DeleteFunc(have, func(p, _ string) bool { return first.left(p) })
		if maps.Equal(want, have) || call == "" || time.Now().After(end) {
			require.Equal(t, want, have, "%s at call %d, %s\n%s%s", what, at, call, first.said, said.String())
			return first.reached
		}
		if e.amid[0] == "sweep" {
			_ = command("retry", "--failed").Run()
		}
	}
}

// cutShort is what came of a command into which something was injected.
type cutShort struct {
	reached
	said string
}

func (e ending) cut(t *testing.T, c *exec.Cmd, at int, inject injection) (s cutShort) {
	// a file: traced waits for no copying of what is printed
	out, err := os.Create(filepath.Join(t.TempDir(), "said"))
	require.NoError(t, err)
	defer out.Close()
	c.Stdout, c.Stderr = out, out
	s.reached = traced(t, at, fileCalls, inject, c)
	text, err := os.ReadFile(out.Name())
	require.NoError(t, err)
	s.said = string(text)
	return s
}

// left reports whether the command said that something could not be removed and stays there.
func (s cutShort) left(path string) bool {
	_, rest, ok := strings.Cut(s.said, " could not be removed and stay") // stays, if it is one
	_, rest, _ = strings.Cut(rest, " in ")
	at, _, _ := strings.Cut(rest, ":")
	return ok && strings.HasPrefix(path, at)
}

// somewhere reports whether a file with a content is below folders, kept content included.
func somewhere(t *testing.T, content string, dirs ...string) (found bool) {
	for _, dir := range dirs {
		require.NoError(t, filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
			if err != nil || found || !d.Type().IsRegular() {
				return err
			}
			text, err := os.ReadFile(path)
			found = string(text) == content
			return err
		}))
	}
	return found
}
