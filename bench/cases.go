//go:build linux

package main

import (
	"database/sql"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"
	"unsafe"

	_ "modernc.org/sqlite" // the driver, to fill a ledger

	"stilltide/internal/ledger"
)

const moveRules = `rules: [{name: move, watch: in, debounce: 0s, processed: out}]
`

// moveCase: files dropped while watching, each moved.
func moveCase(b *bench) error {
	n := b.count(12_000)
	r := Result{Case: fmt.Sprintf("%d files dropped, each moved", n), Unit: "s", Baseline: "C: inotify, rename"}
	for range b.rounds {
		base, _, err := b.movedBy(n, b.renamer(n))
		if err != nil {
			return err
		}
		ours, _, err := b.movedBy(n, b.watcher)
		if err != nil {
			return err
		}
		r.Base, r.Ours = append(r.Base, base), append(r.Ours, ours)
	}
	b.add(r, "ratio", 1.5)
	return nil
}

// renamer starts the bare program that moves n files.
func (b *bench) renamer(n int) func(dir string) (*process, error) {
	return func(dir string) (*process, error) {
		return b.start("ready", dir, b.tool("watch"), "rename", "in", "out", strconv.Itoa(n))
	}
}

// movedBy drops n files and waits until a program has moved them: for how many seconds, and how
// much memory that took at most, in MiB.
func (b *bench) movedBy(n int, start func(dir string) (*process, error)) (seconds, memory float64, err error) {
	dir, err := b.office("move", moveRules)
	if err != nil {
		return 0, 0, err
	}
	out := filepath.Join(dir, "out")
	if err := os.Mkdir(out, 0o777); err != nil {
		return 0, 0, err
	}
	p, err := start(dir)
	if err != nil {
		return 0, 0, err
	}
	defer p.stop()
	begun := time.Now()
	if err := drop(filepath.Join(dir, "in"), n); err != nil {
		return 0, 0, err
	}
	err = until(out, dropped(n-1), n)
	return time.Since(begun).Seconds(), p.status("VmHWM") / 1024, err
}

// latencyCase: from the writer's close to the start of the command.
func latencyCase(b *bench) error {
	n := b.count(400)
	mid := Result{Case: "close to start of the command, median", Unit: "ms", Baseline: "C: inotify, spawn"}
	late := Result{Case: "the same, 99th of 100", Unit: "ms", Baseline: "C: inotify, spawn"}
	for range b.rounds {
		base, err := b.latencies(n, func(dir string) (*process, error) {
			return b.start("ready", dir, b.tool("watch"), "spawn", "in", b.tool("stamp"), strconv.Itoa(n))
		})
		if err != nil {
			return err
		}
		ours, err := b.latencies(n, b.watcher)
		if err != nil {
			return err
		}
		mid.Base, mid.Ours = append(mid.Base, base[len(base)/2]), append(mid.Ours, ours[len(ours)/2])
		late.Base, late.Ours = append(late.Base, base[len(base)*99/100]), append(late.Ours, ours[len(ours)*99/100])
	}
	b.add(mid, "difference", 0.3)
	b.add(late, "difference", 1)
	return nil
}

// latencies returns the times in milliseconds, the shortest first.
func (b *bench) latencies(n int, start func(dir string) (*process, error)) ([]float64, error) {
	dir, err := b.office("latency", fmt.Sprintf("rules: [{name: stamp, watch: in, debounce: 0s, run: %q}]\n",
		b.tool("stamp")+" {file}"))
	if err != nil {
		return nil, err
	}
	p, err := start(dir)
	if err != nil {
		return nil, err
	}
	defer p.stop()
	closed := map[string]int64{}
	for i := range n {
		name := fmt.Sprintf("f%d", i)
		if err := os.WriteFile(filepath.Join(dir, "in", name), []byte(name), 0o666); err != nil {
			return nil, err
		}
		closed[name] = monotonic()
		time.Sleep(15 * time.Millisecond)
	}
	time.Sleep(300 * time.Millisecond)
	stamps, err := os.ReadFile(filepath.Join(dir, "stamps"))
	if err != nil {
		return nil, err
	}
	var list []float64
	for _, line := range strings.Split(strings.TrimSpace(string(stamps)), "\n") {
		at, path, _ := strings.Cut(line, " ")
		ns, err := strconv.ParseInt(at, 10, 64)
		if err != nil {
			return nil, err
		}
		list = append(list, float64(ns-closed[filepath.Base(path)])/1e6)
	}
	if len(list) != n {
		return nil, fmt.Errorf("%d of %d files were handled", len(list), n)
	}
	slices.Sort(list)
	return list, nil
}

// monotonic is CLOCK_MONOTONIC in nanoseconds (clock_gettime(2)).
func monotonic() int64 {
	var t syscall.Timespec
	_, _, _ = syscall.Syscall(syscall.SYS_CLOCK_GETTIME, 1, uintptr(unsafe.Pointer(&t)), 0)
	return t.Nano()
}

// commandsCase: a sweep over files with one tiny command each.
func commandsCase(b *bench) error {
	n := b.count(2000)
	r := Result{Case: fmt.Sprintf("sweep, %d files, a tiny command each", n), Unit: "s",
		Baseline: "find | xargs -P2 -n1"}
	for range b.rounds {
		dir, err := b.tinyCommands(n)
		if err != nil {
			return err
		}
		base, err := timed(dir, "sh", "-c", "find in -type f -print0 | xargs -0 -P2 -n1 /bin/true")
		if err != nil {
			return err
		}
		ours, err := timed(dir, b.program, "sweep", "--json")
		if err != nil {
			return err
		}
		r.Base, r.Ours = append(r.Base, base), append(r.Ours, ours)
	}
	b.add(r, "ratio", 1.0)
	return nil
}

// tinyCommands makes an inbox of n files with a command for each.
func (b *bench) tinyCommands(n int) (dir string, err error) {
	dir, err = b.office("commands", "workers: 2\nrules: [{name: tiny, watch: in, debounce: 0s, run: /bin/true}]\n")
	if err != nil {
		return "", err
	}
	return dir, drop(filepath.Join(dir, "in"), n)
}

// scanCase: a sweep over files that nothing takes.
func scanCase(b *bench) error {
	return b.scan("scan", "files that nothing takes", 1.5, `match: "*.nothing"`, nil)
}

// knownCase: a sweep over files that a rule has handled, and that stay where they are.
func knownCase(b *bench) error {
	return b.scan("known", "known files, nothing new", 1.2, `run: "true"`, remember)
}

// scan times a sweep over files in 200 folders; before it a ledger is prepared.
func (b *bench) scan(name, what string, goal float64, rule string, prepare func(dir string) error) error {
	n := b.count(200_000)
	dir, err := b.office(name, "rules: [{name: "+name+", watch: in, depth: all, debounce: 0s, "+rule+"}]\n")
	if err != nil {
		return err
	}
	for i := range 200 {
		sub := filepath.Join(dir, "in", fmt.Sprint(i))
		if err := os.Mkdir(sub, 0o777); err != nil {
			return err
		}
		for k := range n / 200 {
			path := filepath.Join(sub, "gauge-"+strconv.Itoa(k)+".csv")
			if err := os.WriteFile(path, []byte("x"), 0o666); err != nil {
				return err
			}
		}
	}
	if prepare != nil {
		if err := prepare(dir); err != nil {
			return err
		}
	}
	r := Result{Case: fmt.Sprintf("sweep over %d %s", n, what), Unit: "s", Baseline: "find -printf"}
	for range b.rounds {
		base, err := timed(dir, "sh", "-c", `find in -type f -printf '%p %s %T@\n' > /dev/null`)
		if err != nil {
			return err
		}
		ours, err := timed(dir, b.program, "sweep")
		if err != nil {
			return err
		}
		r.Base, r.Ours = append(r.Base, base), append(r.Ours, ours)
	}
	b.add(r, "ratio", goal)
	return nil
}

// crossCase: large files to another file system.
func crossCase(b *bench) error {
	const files = 200
	size := int(float64(2<<30)*b.scale) / files
	other, err := os.MkdirTemp("", "tide-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(other)
	if same, err := sameDevice(other, b.folder); err != nil || same {
		return fmt.Errorf("%s and %s are one file system: %v", other, b.folder, err)
	}
	r := Result{Case: fmt.Sprintf("%d MiB in %d files to another disk", files*size>>20, files), Unit: "s",
		Baseline: "cp, then sync"}
	block := make([]byte, size)
	for i := range block {
		block[i] = byte(i * 7)
	}
	for range b.rounds {
		dir, err := b.office("cross", "workers: 2\nrules: [{name: far, watch: in, debounce: 0s, processed: "+
			filepath.Join(other, "ours")+"}]\n")
		if err != nil {
			return err
		}
		for i := range files {
			block[0] = byte(i)
			if err := os.WriteFile(filepath.Join(dir, "in", fmt.Sprint(i)), block, 0o666); err != nil {
				return err
			}
		}
		for _, sub := range []string{"ours", "base"} {
			if err := os.RemoveAll(filepath.Join(other, sub)); err != nil {
				return err
			}
		}
		syscall.Sync()
		base, err := timed(dir, "sh", "-c", "cp -r in "+filepath.Join(other, "base")+" && sync "+
			filepath.Join(other, "base")+"/* "+filepath.Join(other, "base"))
		if err != nil {
			return err
		}
		syscall.Sync()
		ours, err := timed(dir, b.program, "sweep")
		if err != nil {
			return err
		}
		r.Base, r.Ours = append(r.Base, base), append(r.Ours, ours)
	}
	b.add(r, "ratio", 1.2)
	return nil
}

func sameDevice(a, b string) (bool, error) {
	var x, y syscall.Stat_t
	if err := syscall.Stat(a, &x); err != nil {
		return false, err
	}
	err := syscall.Stat(b, &y)
	return x.Dev == y.Dev, err
}

// queueCase: a queue of a million jobs, and how soon the first one starts.
func queueCase(b *bench) error {
	n := b.count(1_000_000)
	dir, err := b.office("queue", "workers: 2\nrules: [{name: long, watch: in, debounce: 0s, script: \""+
		b.tool("stamp")+" $1; sleep 120\"}]\n")
	if err != nil {
		return err
	}
	if err := fillQueue(dir, n, true); err != nil {
		return err
	}
	cmd := exec.Command(b.program, "watch")
	cmd.Dir = dir
	cmd.Env = append(os.Environ(), "STAMPS="+filepath.Join(dir, "stamps"))
	begun := monotonic()
	if err := cmd.Start(); err != nil {
		return err
	}
	p := &process{cmd}
	defer p.stop()
	ns, err := firstStamp(filepath.Join(dir, "stamps"))
	if err != nil {
		return err
	}
	time.Sleep(60 * time.Second) // all files are looked through meanwhile
	b.add(Result{Case: fmt.Sprintf("%d queued jobs: start to first command", n), Unit: "s",
		Ours: []float64{float64(ns-begun) / 1e9}}, "value", 1)
	b.add(Result{Case: "the same: memory at most", Unit: "MiB", Ours: []float64{p.status("VmHWM") / 1024}}, "value",
		120)
	return nil
}

// fillQueue makes a ledger with queued jobs; real ones are for files that are there.
func fillQueue(dir string, n int, real bool) error {
	state, in := filepath.Join(dir, ".stilltide"), filepath.Join(dir, "in")
	l, err := ledger.Open(state, func(error) {})
	if err != nil {
		return err
	}
	if err := l.Close(); err != nil {
		return err
	}
	db, err := sql.Open("sqlite", filepath.Join(state, ledger.FileName))
	if err != nil {
		return err
	}
	defer db.Close()
	tx, err := db.Begin()
	if err != nil {
		return err
	}
	defer tx.Rollback() // does nothing after the commit
	put, err := tx.Prepare(`INSERT INTO job (rule, file, watch, state, event, size, mtime, dev, ino, taken_at) VALUES ('long', ?, ?, 'queued', 'added', ?, ?, ?, ?, 1)`)
	if err != nil {
		return err
	}
	for i := range n {
		path := filepath.Join(in, dropped(i))
		var st syscall.Stat_t
		if real {
			if err := os.WriteFile(path, []byte("x"), 0o666); err != nil {
				return err
			}
			if err := syscall.Lstat(path, &st); err != nil {
				return err
			}
		}
		if _, err := put.Exec(path, in, st.Size, st.Mtim.Nano(), int64(st.Dev), int64(st.Ino)); err != nil {
			return err
		}
	}
	if _, err = tx.Exec(`INSERT INTO tally (rule, state, jobs) VALUES ('long', 'queued', ?)`, n); err != nil {
		return err
	}
	return tx.Commit()
}

// startCase: a command that does nothing, against a program that does nothing.
func startCase(b *bench) error {
	r := Result{Case: "stilltide version", Unit: "ms", Baseline: "an empty Go program"}
	for range b.rounds {
		measure := func(args ...string) (float64, error) {
			const times = 50
			total := 0.0
			for range times {
				took, err := timed(b.folder, args...)
				if err != nil {
					return 0, err
				}
				total += took
			}
			return total / times * 1000, nil
		}
		base, err := measure(b.tool("empty"))
		if err != nil {
			return err
		}
		ours, err := measure(b.program, "version")
		if err != nil {
			return err
		}
		r.Base, r.Ours = append(r.Base, base), append(r.Ours, ours)
	}
	b.add(r, "difference", 4)
	return nil
}

// firstStamp waits for the first command and tells when it started.
func firstStamp(path string) (int64, error) {
	for end := time.Now().Add(5 * time.Minute); time.Now().Before(end); time.Sleep(2 * time.Millisecond) {
		text, err := os.ReadFile(path)
		if line, _, whole := strings.Cut(string(text), "\n"); err == nil && whole {
			at, _, _ := strings.Cut(line, " ")
			return strconv.ParseInt(at, 10, 64)
		}
	}
	return 0, errors.New("no command was started in five minutes")
}

// framed measures two things twice, one of them first and last, and gives the
// mean of each: a machine that becomes slower or faster meanwhile does so for both.
func framed(a, b func() (float64, error)) (meanA, meanB float64, err error) {
	for _, one := range []struct {
		measure func() (float64, error)
		mean    *float64
	}{{a, &meanA}, {b, &meanB}, {b, &meanB}, {a, &meanA}} {
		value, err := one.measure()
		if err != nil {
			return 0, 0, err
		}
		*one.mean += value / 2
	}
	return meanA, meanB, nil
}

// fillHistory makes a ledger with jobs that are over.
func fillHistory(dir string, rows int) error {
	if err := fillQueue(dir, rows, false); err != nil {
		return err
	}
	db, err := sql.Open("sqlite", filepath.Join(dir, ".stilltide", ledger.FileName))
	if err != nil {
		return err
	}
	defer db.Close()
	now := time.Now().UnixNano()
	for _, q := range []string{
		fmt.Sprintf(`UPDATE job SET state = 'processed', rule = 'move', taken_at = %d, ended_at = %d`, now, now),
		`UPDATE tally SET state = 'processed', rule = 'move'`,
	} {
		if _, err := db.Exec(q); err != nil {
			return err
		}
	}
	return nil
}
