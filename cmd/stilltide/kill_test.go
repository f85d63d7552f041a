package main

import (
	"database/sql"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"stilltide/internal/core/job"
	"stilltide/internal/ledger"
)

const killRules = `version: 1
workers: 4
defaults: {debounce: 0s, retry: {times: 30, delay: 50ms, max_delay: 200ms}}
rules:
  - name: worked
    watch: in
    match: "*.work"
    script: |
      lock="locks/$TIDE_NAME"
      if ! mkdir "$lock"; then echo "$TIDE_NAME" >> twice; exit 1; fi
      cp "$1" "out/$TIDE_NAME.$TIDE_ATTEMPT"
      rmdir "$lock"
    processed: done
  - name: moved
    watch: in
    match: "*.move"
    processed: "sorted/{size}"
  - name: refused
    watch: in
    match: "*.fail"
    run: "false"
    retry: 0
    failed: failed
  - name: stepped
    watch: in
    match: "*.step"
    do:
      - {script: 'tr a-z A-Z < "$1"', stdout: "{scratch}/{stem}"}
      - {copy: copies, from: "{scratch}/{stem}", as: "{name}"}
      - {rename: "{stem}.renamed"}
      - {copy: copies/whole, as: "{stem}.step"}
      - {move: moved}
    processed: {to: done, as: "{stem}.step"}
`

// TestKill ends the real program with SIGKILL at random moments while files
// go through it. Afterwards each input is whole in exactly one place, each job
// in one final state, and nothing of ours is left over.
func TestKill(t *testing.T) {
	t.Parallel()
	if runtime.GOOS == "windows" {
		t.Skip("the rules of this test need sh")
	}
	const files, kills = 900, 12
	dir := t.TempDir()
	program, err := built()
	require.NoError(t, err)
	for _, sub := range []string{"in", "out", "locks"} {
		require.NoError(t, os.Mkdir(filepath.Join(dir, sub), 0o777))
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "stilltide.yaml"), []byte(killRules), 0o666))
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	chance := rand.New(rand.NewPCG(seed, 1))
	kinds := []string{"work", "move", "fail", "step"}
	made := 0
	drop := func(n int) {
		for ; n > 0 && made < files; n-- {
			name := fmt.Sprintf("f%d.%s", made, kinds[made%4])
			require.NoError(t, os.WriteFile(filepath.Join(dir, "in", name), []byte("content of "+name), 0o666))
			made++
		}
	}
	for range kills {
		drop(files / kills)
		watchKilled(t, dir, time.Duration(20+chance.IntN(250))*time.Millisecond)
		// The lock of a command that was killed with its watcher. Children die with
		// it, a moment later, and may take a lock until then.
		time.Sleep(100 * time.Millisecond)
		entries, err := os.ReadDir(filepath.Join(dir, "locks"))
		require.NoError(t, err)
		for _, e := range entries {
			_ = os.Remove(filepath.Join(dir, "locks", e.Name()))
		}
	}
	drop(files)
	for range 20 { // sweep tries each job once; what a kill cut short is tried again
		s := exec.Command(program, "sweep")
		s.Dir = dir
		_ = s.Run() // ends with 1: some jobs must fail
		stay := cutTooOften(t, dir, 10)
		maps.DeleteFunc(stay, func(name string, _ bool) bool { return filepath.Ext(name) == ".fail" })
		if left, _ := filepath.Glob(filepath.Join(dir, "in", "*")); len(left) == len(stay) {
			break
		}
		time.Sleep(100 * time.Millisecond)
	}
	_, err = os.Stat(filepath.Join(dir, "twice"))
	require.True(t, os.IsNotExist(err), "a command ran twice at the same time for one file")
	checkPlaces(t, dir, files, kinds)
	checkLedger(t, dir, files)
}

// watchKilled has the program watch in a folder, and ends it by force after some time.
func watchKilled(t *testing.T, dir string, after time.Duration) {
	t.Helper()
	program, err := built()
	require.NoError(t, err)
	w := exec.Command(program, "watch")
	w.Dir = dir
	require.NoError(t, w.Start())
	time.Sleep(after)
	require.NoError(t, w.Process.Kill())
	_ = w.Wait()
}

// checkPlaces looks for each input where it belongs, whole, and for leftovers.
func checkPlaces(t *testing.T, dir string, files int, kinds []string) {
	places, copies := map[string][]string{}, map[string]int{}
	require.NoError(t, filepath.WalkDir(dir, func(path string, d os.DirEntry, err error) error {
		require.NoError(t, err)
		require.False(t, strings.HasPrefix(d.Name(), ".stilltide-"), "left over: %s", path)
		if d.IsDir() || strings.HasSuffix(path, ".failed.txt") {
			return nil
		}
		switch folder := strings.Split(strings.TrimPrefix(path, dir+"/"), "/")[0]; folder {
		case "copies":
			copies[d.Name()]++
		case "in", "done", "sorted", "failed", "moved":
			content, err := os.ReadFile(path)
			require.NoError(t, err)
			require.Equal(t, "content of "+d.Name(), string(content))
			places[d.Name()] = append(places[d.Name()], folder)
		}
		return nil
	}))
	want := map[string]string{"work": "done", "move": "sorted", "fail": "failed", "step": "done"}
	bounded := cutTooOften(t, dir, 10)
	for i := range files {
		name := fmt.Sprintf("f%d.%s", i, kinds[i%4])
		if bounded[name] { // it has failed, and is back where it came from, or where its rule wants it then
			where := "in"
			if filepath.Ext(name) == ".fail" {
				where = "failed"
			}
			require.Equal(t, []string{where}, places[name], name)
			require.Zero(t, copies[name], name)
			continue
		}
		require.Equal(t, []string{want[kinds[i%4]]}, places[name], name)
		if kinds[i%4] == "step" {
			require.Equal(t, 2, copies[name], "%s: one in capitals, one whole", name)
		}
	}
	scratch, err := os.ReadDir(filepath.Join(dir, ".stilltide", "scratch"))
	require.NoError(t, err)
	require.Empty(t, scratch)
}

// cutTooOften lists the files whose jobs met the bound on attempts that a crash cuts
// short: kills by chance may hit one that often. They are few.
func cutTooOften(t *testing.T, dir string, most int) map[string]bool {
	l, err := ledger.Read(filepath.Join(dir, ".stilltide"))
	require.NoError(t, err)
	defer l.Close()
	jobs, err := l.Jobs(job.Filter{States: []job.State{job.Failed}})
	require.NoError(t, err)
	names := map[string]bool{}
	for _, j := range jobs {
		if strings.HasPrefix(j.Reason, "the watcher ended") {
			require.Equal(t, 4, j.Crashes, j.File)
			names[filepath.Base(j.File)] = true
		}
	}
	require.Less(t, len(names), most)
	return names
}

// checkLedger looks for one final job a file, and a healthy database.
func checkLedger(t *testing.T, dir string, files int) {
	l, err := ledger.Read(filepath.Join(dir, ".stilltide"))
	require.NoError(t, err)
	defer l.Close()
	jobs, err := l.Jobs(job.Filter{})
	require.NoError(t, err)
	final := map[string]int{}
	for _, j := range jobs {
		require.True(t, j.State.Final(), "job %d of %s is %s", j.ID, j.File, j.State)
		final[j.File]++
	}
	require.Len(t, final, files)
	for file, n := range final {
		require.Equal(t, 1, n, "%s has %d jobs", file, n)
	}
	db, err := sql.Open("sqlite", filepath.Join(dir, ".stilltide", ledger.FileName))
	require.NoError(t, err)
	defer db.Close()
	var verdict string
	require.NoError(t, db.QueryRow(`PRAGMA integrity_check`).Scan(&verdict))
	require.Equal(t, "ok", verdict)
}
