//go:build linux

package main

import (
	"archive/zip"
	"flag"
	"fmt"
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

var kills = flag.Int("kill.times", 25, "how often the program is ended by force at mixed work")

// Replacements, archives, whole folders and files that go to another disk, while the program
// is ended by force again and again: in the end all is placed once, and nothing is left over.
func TestKillOfMixedWork(t *testing.T) {
	t.Parallel()
	program, err := built()
	require.NoError(t, err)
	far := machine.OtherDisk(t)
	near := t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(near, "in"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(near, "stilltide.yaml"), []byte(`version: 1
workers: 3
defaults: {debounce: 0s, retry: {times: 50, delay: 20ms, max_delay: 50ms}}
rules:
  - {name: boxes, watch: in, unit: folder, match: "box*", processed: `+far+`/boxes}
  - {name: far, watch: in, match: "*.far", processed: `+far+`/files}
  - {name: opened, watch: in, match: "*.zip", do: [{unpack: "open/{stem}"}], processed: done}
  - name: raised
    watch: in
    match: "*.up"
    do:
      - {script: 'tr a-z A-Z < "$1"', stdout: "{scratch}/new"}
      - {replace_with: "{scratch}/new"}
      - {move: `+far+`/mid}
    processed: done
`), 0o644))
	r := rand.New(rand.NewPCG(uint64(time.Now().UnixNano()), 1))
	want := map[string]string{}
	put := func(path, text string) {
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
	}
	for i := range *kills {
		aside := filepath.Join(near, "aside", fmt.Sprint("box", i))
		for _, name := range []string{"one", "sub/two", "sub/three"} {
			text := fmt.Sprint("box ", i, " ", name)
			put(filepath.Join(aside, name), text)
			want[filepath.Join(far, "boxes", fmt.Sprint("box", i), name)] = text
		}
		require.NoError(t, os.Rename(aside, filepath.Join(near, "in", fmt.Sprint("box", i))))
		put(filepath.Join(near, "in", fmt.Sprintf("f%d.far", i)), fmt.Sprint("far ", i))
		want[filepath.Join(far, "files", fmt.Sprintf("f%d.far", i))] = fmt.Sprint("far ", i)
		put(filepath.Join(near, "in", fmt.Sprintf("r%d.up", i)), fmt.Sprint("raised ", i))
		want[filepath.Join(near, "done", fmt.Sprintf("r%d.up", i))] = fmt.Sprint("RAISED ", i)
		packed := pack(t, map[string]string{"a.txt": fmt.Sprint("a ", i), "deep/b.txt": fmt.Sprint("b ", i)})
		put(filepath.Join(near, "in", fmt.Sprintf("z%d.zip", i)), packed)
		want[filepath.Join(near, "done", fmt.Sprintf("z%d.zip", i))] = packed
		want[filepath.Join(near, "open", fmt.Sprint("z", i), "a.txt")] = fmt.Sprint("a ", i)
		want[filepath.Join(near, "open", fmt.Sprint("z", i), "deep/b.txt")] = fmt.Sprint("b ", i)
		w := exec.Command(program, "watch")
		w.Dir = near
		require.NoError(t, w.Start())
		time.Sleep(time.Duration(15+r.IntN(120)) * time.Millisecond) // the kill comes at some moment
		require.NoError(t, w.Process.Kill())
		_ = w.Wait()
	}
	said := ""
	for range 30 {
		s := exec.Command(program, "sweep")
		s.Dir = near
		text, _ := s.CombinedOutput()
		said += string(text)
		if left, _ := os.ReadDir(filepath.Join(near, "in")); len(left) == len(cutTooOften(t, near, 10+*kills/5)) {
			break
		}
	}
	have := map[string]string{}
	for _, dir := range []string{near, far} {
		require.NoError(t, filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
			require.NoError(t, err)
			require.False(t, strings.HasPrefix(d.Name(), ".stilltide-"), "left over: %s\n%s", path, said)
			if d.IsDir() && (d.Name() == ".stilltide" || path == filepath.Join(near, "in")) {
				return fs.SkipDir
			}
			if d.Type().IsRegular() && d.Name() != "stilltide.yaml" {
				text, err := os.ReadFile(path)
				require.NoError(t, err)
				have[path] = string(text)
			}
			return nil
		}))
	}
	for name := range cutTooOften(t, near, 10+*kills/5) { // it is back where it came from
		require.FileExists(t, filepath.Join(near, "in", name))
		for path := range want {
			if strings.Contains(path+"/", "/"+name+"/") || strings.Contains(path,
				"/"+strings.TrimSuffix(name, ".zip")+"/") {
				delete(want, path)
			}
		}
	}
	require.Equal(t, want, have, said)
	t.Logf("ended by force %d times: %d files placed once, nothing left over", *kills, len(want))
}

func pack(t *testing.T, files map[string]string) string {
	var b strings.Builder
	z := zip.NewWriter(&b)
	for name, text := range files {
		f, err := z.Create(name)
		require.NoError(t, err)
		_, err = f.Write([]byte(text))
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	return b.String()
}
