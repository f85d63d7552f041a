//go:build unix

package main

import (
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"
	"github.com/stretchr/testify/require"
)

// All that a command sees and makes here, it sees and makes there: inputs, small and large,
// words, programs that travel along, standard input and output, saved words, batches and
// folders; and what it prints.
func TestFleetCarries(t *testing.T) {
	t.Parallel()
	y := newYard(t, `rules:
  - name: charts
    watch: in
    match: "*.pgm"
    pool: heavy
    bring: ["bin/*"]
    do:
      - run: ./bin/halve {file} {scratch}/small {rel} {attempt}
        save: said
      - copy: out
        from: "{scratch}/small"
        as: "{said}"
    processed: done
  - name: notes
    watch: in
    match: "*.txt"
    pool: heavy
    do:
      - script: |
          cat > "$TIDE_SCRATCH/copy"
          test "$1" = "$TIDE_FILE"; cmp "$1" "$TIDE_SCRATCH/copy"
          echo "$TIDE_NAME of $TIDE_RULE"
          echo "to the log" >&2
        stdin: file
        stdout: "printed/{name}"
      - run: cat {scratch}/copy
        add_file: false
    processed: done
  - name: many
    watch: many
    pool: heavy
    batch: {max_files: 3}
    do:
      - script: |
          cat $(cat "$TIDE_LIST") > "$TIDE_SCRATCH/all"; test $# = 3
      - copy: out
        from: "{scratch}/all"
    processed: done
  - name: folders
    watch: folders
    unit: folder
    pool: heavy
    do:
      - run: cp -r {file} {scratch}/result
      - copy: out
        from: "{scratch}/result"
        as: "{name}-copied"
    processed: done
  - name: bad
    watch: bad
    pool: heavy
    run: sh -c "echo line 7 is wrong; exit 3"
    failed: failed
`)
	put(t, y.dir, "bin/halve", "#!/bin/sh\nset -e\n. ./bin/lib\nhalf \"$1\" > \"$2\"\necho $3-$4\n")
	put(t, y.dir, "bin/lib", "half() { head -c $(( $(wc -c < \"$1\") / 2 )) \"$1\"; }\n")
	require.NoError(t, os.Chmod(filepath.Join(y.dir, "bin/halve"), 0o755))
	large := strings.Repeat("0123456789abcdef", 200_000) // 3.2 MB: it travels in parts
	put(t, y.dir, "in/small.pgm", "abcdef")
	put(t, y.dir, "in/large 'chart'.pgm", large)
	put(t, y.dir, "in/note one.txt", "hello")
	for i := range 3 {
		put(t, y.dir, fmt.Sprintf("many/m%d", i), fmt.Sprint("part ", i, "\n"))
	}
	put(t, y.dir, "folders/survey/deep/a.xyz", "1")
	put(t, y.dir, "folders/survey/b.xyz", "2")
	put(t, y.dir, "bad/one", "x")
	require.Contains(t, run(t, y.dir, "check"), "no errors")
	y.lend("kelder2")
	y.watch()
	y.comes("done/small.pgm", "done/large 'chart'.pgm", "done/note one.txt", "done/m0", "done/m2", "done/survey",
		"failed/one", "failed/one.failed.txt")
	require.Equal(t, "abc", y.read("out/small.pgm-1"))
	require.Equal(t, large[:len(large)/2], y.read("out/large 'chart'.pgm-1"))
	require.Equal(t, "note one.txt of notes\n", y.read("printed/note one.txt"))
	require.Equal(t, "1", y.read("out/survey-copied/deep/a.xyz"))
	require.Equal(t, 3, y.lines("out/all"))
	require.Contains(t, y.read("failed/one.failed.txt"), "sh on kelder2 ended with exit code 3: line 7 is wrong")
	jobs := run(t, y.dir, "jobs", "--rule", "notes", "--json")
	require.Contains(t, jobs, `"result":"on kelder2`)
	require.Equal(t, "to the log\nhello", run(t, y.dir, "jobs", "log", jobID(t, jobs)))
	require.Contains(t, run(t, y.dir, "fleet"), "1 helper, 2 workers, 0 busy.")
	require.Contains(t, run(t, y.dir, "status"), "heavy: 1 helper, 2 workers, 0 busy")
	y.watcher.stop()
	y.engineIsEmpty()
}

// jobID is the number of the first job of some lines of JSON.
func jobID(t *testing.T, lines string) string {
	var j struct{ ID int64 }
	require.NoError(t, json.Unmarshal([]byte(strings.SplitN(lines, "\n", 2)[0]), &j))
	return fmt.Sprint(j.ID)
}

// engineIsEmpty checks that the engine holds nothing of what is over, but what travels along.
func (y *yard) engineIsEmpty() {
	nc, err := nats.Connect(fmt.Sprintf("nats://127.0.0.1:%d", y.port))
	require.NoError(y.t, err)
	defer nc.Close()
	js, err := jetstream.New(nc)
	require.NoError(y.t, err)
	for _, name := range []string{"TIDE_JOBS", "TIDE_RESULTS", "TIDE_FILES"} {
		require.Eventually(y.t, func() bool {
			s, err := js.Stream(y.t.Context(), name)
			if err != nil {
				return false
			}
			info, err := s.Info(y.t.Context(), jetstream.WithSubjectFilter(">"))
			for subject := range info.State.Subjects {
				if !strings.Contains(subject, ".bring-") {
					return false
				}
			}
			return err == nil
		}, patience, 50*time.Millisecond, "%s holds nothing any more", name)
	}
}

// placing is a rule whose command says that it runs, takes a moment, and makes a file.
const placing = `rules:
  - name: charts
    watch: in
    pool: heavy
    do:
      - script: |
          echo "$TIDE_NAME" >> "$RUNS"; sleep "$LASTS"
          tr a-z A-Z < "$1" > "$TIDE_SCRATCH/upper"
        env: {RUNS: %q, LASTS: %q}
      - copy: out
        from: "{scratch}/upper"
        as: "{name}"
        same_name: fail
    processed: done
`

// charts are so many inputs.
func (y *yard) charts(n int) (names []string) {
	for i := range n {
		names = append(names, fmt.Sprintf("chart-%04d", i))
		put(y.t, y.dir, "in/"+names[i], "content of "+names[i])
	}
	return names
}

// allPlaced waits until all that went in is done, once, and right.
func (y *yard) allPlaced(names []string) {
	y.t.Helper()
	for _, name := range names {
		y.comes("done/" + name)
		require.Equal(y.t, "CONTENT OF "+strings.ToUpper(name), y.read("out/"+name))
	}
	entries, err := os.ReadDir(filepath.Join(y.dir, "out"))
	require.NoError(y.t, err)
	require.Len(y.t, entries, len(names), "nothing is placed twice: %s", y.said())
}

var fleetJobs = flag.Int("fleet.jobs", 60, "how many jobs TestFleetSurvives has")

// A helper that is killed, or frozen for longer than its lease, loses its commands to another; a
// watcher that is killed takes up what was made without it; an engine that is killed, or has lost
// everything, is given again what is open. Whatever happens, each input is placed once.
func TestFleetSurvives(t *testing.T) {
	t.Parallel()
	y := newYard(t, "")
	y.rules(fmt.Sprintf(placing, filepath.Join(y.dir, "runs"), "0.05"))
	put(t, y.dir, "in/.keep", "")
	names := y.charts(*fleetJobs)
	y.lend("one")
	y.lend("two")
	y.watch()
	some := func(percent int) {
		t.Helper()
		y.until(fmt.Sprint(percent, " % must be done"), func() bool {
			done, _ := os.ReadDir(filepath.Join(y.dir, "done"))
			return len(done) >= *fleetJobs*percent/100
		})
	}
	some(10)
	y.kill("one")
	some(20)
	y.lend("one")
	require.NoError(t, y.helpers["two"].Process.Signal(syscall.SIGSTOP))
	some(30)
	y.killWatcher()
	y.watch()
	some(45)
	require.NoError(t, y.helpers["two"].Process.Signal(syscall.SIGCONT))
	y.killServer()
	y.startServer()
	some(60)
	y.killServer()
	require.NoError(t, os.RemoveAll(filepath.Join(y.dir, "engine/store")))
	y.startServer()
	some(80)
	y.killWatcher()
	y.kill("one")
	y.kill("two")
	y.lend("three")
	y.watch()
	y.allPlaced(names)
	require.NotContains(t, run(t, y.dir, "jobs"), "failed")
	y.engineIsEmpty() // while it runs: what ran twice may bring its second result late
	y.watcher.stop()
	explained := run(t, y.dir, "jobs", "--limit", "0", "--json")
	require.Contains(t, explained, "(begun 2 times: a machine that had it before was lost", "a rerun is explained")
	again := y.lines("runs") - len(names)
	t.Logf("%d of %d commands ran again", again, len(names))
	require.Less(t, again, len(names)/2, "what is lost with a helper runs again, and not much else")
}

// What runs on a helper goes on when the watcher ends, in whatever way, and runs once.
func TestFleetGoesOnWithoutItsWatcher(t *testing.T) {
	for _, end := range []string{"asked", "killed"} {
		t.Run(end, func(t *testing.T) {
			t.Parallel()
			y := newYard(t, "")
			y.rules(fmt.Sprintf(placing, filepath.Join(y.dir, "runs"), "3"))
			y.edit("lease: 2s", "lease: 30s") // a helper that is slow to say that it runs is not lost
			names := y.charts(2)
			y.lend("one")
			y.watch()
			y.until("two must run", func() bool { return y.lines("runs") == 2 })
			if end == "asked" {
				begun := time.Now()
				y.watcher.stop()
				require.Less(t, time.Since(begun), 30*time.Second, "it does not wait for what others run")
			} else {
				y.killWatcher()
			}
			y.watch()
			y.allPlaced(names)
			require.Equal(t, 2, y.lines("runs"))
			y.watcher.stop()
			y.engineIsEmpty()
		})
	}
}

// Cancel, a timeout, stop_old and the retries are as for commands of this machine.
func TestFleetStops(t *testing.T) {
	t.Parallel()
	y := newYard(t, "")
	y.rules(fmt.Sprintf(`rules:
  - name: long
    watch: long
    pool: heavy
    script: |
      echo "$1" >> %[1]q; exec sleep 600
    failed: failed
  - name: timed
    watch: timed
    pool: heavy
    timeout: 300ms
    retry: 0
    script: exec sleep 600
    failed: failed
  - name: old
    watch: old
    pool: heavy
    while_running: stop_old
    script: |
      echo "$(cat "$1")" >> %[2]q
      grep -q new "$1" || exec sleep 600
    processed: done
`, filepath.Join(y.dir, "runs"), filepath.Join(y.dir, "old-runs")))
	for _, sub := range []string{"long", "timed", "old"} {
		require.NoError(t, os.Mkdir(filepath.Join(y.dir, sub), 0o777))
	}
	y.lend("one", "--workers", "4")
	y.watch()
	put(t, y.dir, "long/a", "x")
	put(t, y.dir, "timed/b", "x")
	put(t, y.dir, "old/c", "first")
	require.Eventually(t, func() bool { return y.lines("runs") == 1 && y.lines("old-runs") == 1 }, patience,
		10*time.Millisecond)
	require.Eventually(t, func() bool { return strings.Contains(run(t, y.dir, "why", "long/a"), "is on one, for") },
		patience, 50*time.Millisecond)
	id := jobID(t, run(t, y.dir, "jobs", "--rule", "long", "--json"))
	require.Contains(t, run(t, y.dir, "cancel", id), "it is being stopped")
	put(t, y.dir, "old/c", "new")
	y.comes("failed/b", "failed/b.failed.txt", "done/c")
	require.Contains(t, y.read("failed/b.failed.txt"), "on one timed out after 300 ms")
	require.Eventually(t, func() bool {
		return strings.Contains(run(t, y.dir, "jobs", "--rule", "long"), "cancelled") &&
			strings.Contains(run(t, y.dir, "fleet"), "0 busy")
	}, patience, 50*time.Millisecond, "nothing goes on there: %s", y.said())
	y.watcher.stop()
	y.engineIsEmpty()
}

// Without a helper, or without the engine, a rule holds its files or runs its commands here; that
// is said, and others go on.
func TestFleetAway(t *testing.T) {
	t.Parallel()
	y := newYard(t, `rules:
  - {name: held, watch: held, pool: heavy, run: "true", processed: done}
  - {name: here, watch: here, pool: heavy, while_away: run_here, run: "true", processed: done}
  - {name: near, watch: near, processed: done}
`)
	for _, sub := range []string{"held", "here", "near"} {
		put(t, y.dir, sub+"/"+sub, "x")
	}
	require.Contains(t, run(t, y.dir, "sweep"), "1 file held: the pool heavy has no helper")
	y.comes("done/here", "done/near")
	require.NoFileExists(t, filepath.Join(y.dir, "done/held"))
	y.watch()
	require.Eventually(t, func() bool {
		return strings.Contains(run(t, y.dir, "status"), "the pool heavy has no helper: 1 job held")
	}, patience, 200*time.Millisecond)
	require.Contains(t, run(t, y.dir, "why", "held/held"), "is held: the pool heavy has no helper")
	y.lend("one")
	y.comes("done/held")
	y.killServer()
	put(t, y.dir, "here/second", "x")
	put(t, y.dir, "held/third", "x")
	y.comes("done/second")
	require.Contains(t, run(t, y.dir, "status"), "is away")
	y.startServer()
	y.comes("done/third")
	require.Contains(t, y.watcher.said(), "the pool heavy can be used again")
}

// A helper runs only what a watcher has signed that it trusts; its folder has one helper.
func TestFleetTrust(t *testing.T) {
	t.Parallel()
	y := newYard(t, `rules:
  - {name: charts, watch: in, pool: heavy, run: "true", processed: done}
`)
	put(t, y.dir, "in/one", "x")
	other := strings.TrimSpace(run(t, y.dir, "fleet", "make-key", "other.nk"))
	right := y.trusted
	y.trusted = other
	y.lend("other")
	y.watch()
	require.Eventually(t, func() bool { return strings.Contains(y.said(), "is left to others") }, patience,
		10*time.Millisecond)
	require.NoFileExists(t, filepath.Join(y.dir, "done/one"))
	y.trusted = right
	y.lend("friend")
	y.comes("done/one")
	require.Contains(t, run(t, y.dir, "fleet", "lend", "--pool", "heavy", "--server",
		fmt.Sprintf("nats://127.0.0.1:%d", y.port), "--key-file", "helper.nk", "--trust", right, "--folder",
		"lent-friend"), "another helper uses it")
	require.NoError(t, os.Chmod(filepath.Join(y.dir, "watcher.nk"), 0o644))
	require.Contains(t, run(t, y.dir, "fleet"), "so others can read it")
}

// Rules that are read again may name another pool; another engine needs a restart, which is said.
func TestFleetReload(t *testing.T) {
	t.Parallel()
	rules := func(pool string) string {
		return "rules:\n  - {name: charts, watch: in, pool: " + pool + ", run: \"true\", processed: done}\n"
	}
	y := newYard(t, rules("light"))
	put(t, y.dir, "in/one", "x")
	y.watch()
	y.until("the pool must be missed", func() bool {
		return strings.Contains(y.watcher.said(), "the pool light has no helper")
	})
	y.lend("one")
	y.rules(rules("heavy"))
	y.comes("done/one")
	y.edit("lease: 2s", "lease: 3s")
	y.until("it must say so", func() bool {
		return strings.Contains(y.watcher.said(),
			"fleet: changed, which needs a restart; the rules from before stay in use")
	})
}
