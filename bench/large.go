//go:build linux

package main

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/ledger"
	"stilltide/internal/watchfs"
)

// largeCase: a burst of many files, and many that are there at the start.
func largeCase(b *bench) error {
	n := b.count(100_000)
	burst := Result{Case: fmt.Sprintf("%d files dropped, each moved", n), Unit: "s", Baseline: "C: inotify, rename"}
	burstMemory := Result{Case: "the same: memory at most", Unit: "MiB"}
	there := Result{Case: fmt.Sprintf("per file: %d → %d that are there at the start", n, 10*n), Unit: "µs",
		Baseline: "a tenth of it"}
	thereMemory := Result{Case: "the same: memory at most", Unit: "MiB"}
	for range b.rounds {
		base, _, err := b.movedBy(n, b.renamer(n))
		if err != nil {
			return err
		}
		ours, memory, err := b.movedBy(n, b.watcher)
		if err != nil {
			return err
		}
		burst.Base, burst.Ours = append(burst.Base, base), append(burst.Ours, ours)
		burstMemory.Ours = append(burstMemory.Ours, memory)
		fewer, _, err := b.foundBy(n)
		if err != nil {
			return err
		}
		more, memory, err := b.foundBy(10 * n)
		if err != nil {
			return err
		}
		there.Base, there.Ours = append(there.Base, fewer), append(there.Ours, more)
		thereMemory.Ours = append(thereMemory.Ours, memory)
	}
	b.add(burst, "ratio", 1.7)
	b.add(burstMemory, "value", 120)
	b.add(there, "ratio", 1.1)
	b.add(thereMemory, "value", 150)
	return nil
}

// flushCase: a burst where each flush to the disk takes 5 ms, beside one whose flushes are free.
// strace(1) makes them slow: it holds up the calls.
func flushCase(b *bench) error {
	if _, err := exec.LookPath("strace"); err != nil {
		return err
	}
	n := b.count(12_000)
	delayed := func(microseconds string) func(dir string) (*process, error) {
		return func(dir string) (*process, error) {
			p, err := b.start("End with Ctrl-C", dir, "strace", "-D", "-f", "--seccomp-bpf", "-o", "/dev/null",
				"-e", "trace=fsync,fdatasync", "-e", "inject=fsync,fdatasync:delay_enter="+microseconds,
				b.program, "--config", filepath.Join(dir, "stilltide.yaml"), "watch")
			time.Sleep(time.Second) // the first look at its folders
			return p, err
		}
	}
	r := Result{Case: fmt.Sprintf("%d files dropped, flushes of 5 ms", n), Unit: "s", Baseline: "free flushes"}
	for range b.rounds {
		base, _, err := b.movedBy(n, delayed("0"))
		if err != nil {
			return err
		}
		ours, _, err := b.movedBy(n, delayed("5000"))
		if err != nil {
			return err
		}
		r.Base, r.Ours = append(r.Base, base), append(r.Ours, ours)
	}
	b.add(r, "ratio", 2)
	return nil
}

// foundBy has the watcher move n files that are there when it starts: how long one took, in
// microseconds, and how much memory that took at most, in MiB.
func (b *bench) foundBy(n int) (perFile, memory float64, err error) {
	dir, err := b.office("found", moveRules)
	if err != nil {
		return 0, 0, err
	}
	defer os.RemoveAll(dir)
	out := filepath.Join(dir, "out")
	if err := os.Mkdir(out, 0o777); err != nil {
		return 0, 0, err
	}
	if err := drop(filepath.Join(dir, "in"), n); err != nil {
		return 0, 0, err
	}
	begun := time.Now()
	p, err := b.start("End with Ctrl-C", dir, b.program, "--config", filepath.Join(dir, "stilltide.yaml"), "watch")
	if err != nil {
		return 0, 0, err
	}
	defer p.stop()
	for left := n; left > 0; time.Sleep(50 * time.Millisecond) {
		if left, err = entries(filepath.Join(dir, "in")); err != nil {
			return 0, 0, err
		}
		if time.Since(begun) > 10*time.Minute {
			return 0, 0, fmt.Errorf("%d files are left after ten minutes", left)
		}
	}
	return time.Since(begun).Seconds() / float64(n) * 1e6, p.status("VmHWM") / 1024, nil
}

// historyCase: what people ask, of a long history.
func historyCase(b *bench) error {
	n := b.count(1_000_000)
	dir, err := b.office("history", moveRules)
	if err != nil {
		return err
	}
	if err := longHistory(dir, n); err != nil {
		return err
	}
	middle := dropped(n / 2)
	for _, question := range [][]string{
		{"status"}, {"jobs"}, {"jobs", "--state", "failed"}, {"jobs", "--since", "1m"}, {"jobs", "--file", middle},
		{"jobs", "--file", "auge-" + strconv.Itoa(n/2)}, {"why", "in/" + middle}, {"why", "out/" + middle},
		{"why", "in/new.csv"},
	} {
		r := Result{Case: fmt.Sprintf("%d rows of history: %s", n, strings.Join(question, " ")), Unit: "ms"}
		for range b.rounds {
			took, err := b.answered(dir, question)
			if err != nil {
				return err
			}
			r.Ours = append(r.Ours, took)
		}
		b.add(r, "value", 30)
	}
	return nil
}

// answered asks our program something, and gives the milliseconds that took. An exit status is an
// answer, too.
func (b *bench) answered(dir string, question []string) (ms float64, err error) {
	cmd := exec.Command(b.program, question...)
	cmd.Dir = dir
	begun := time.Now()
	if err = cmd.Run(); cmd.ProcessState != nil {
		err = nil
	}
	return time.Since(begun).Seconds() * 1000, err
}

// longHistory makes a ledger of jobs that moved a file, a few of which failed, over sixty days.
func longHistory(dir string, n int) error {
	l, err := ledger.Open(filepath.Join(dir, ".stilltide"), func(error) {})
	if err != nil {
		return err
	}
	const since = 60 * 24 * time.Hour
	begun, in := time.Now().Add(-since), filepath.Join(dir, "in")
	for i := range n {
		at := begun.Add(since / time.Duration(n) * time.Duration(i))
		j := job.Job{ID: l.NextID(), Rule: "move", File: filepath.Join(in, dropped(i)), Watch: in,
			State: job.Processed, Event: file.Added, FileNow: filepath.Join(dir, "out", dropped(i)),
			Facts:    file.Facts{Exists: true, Regular: true, Size: 15, Mod: file.At(at), Dev: 1, Ino: uint64(i)},
			Attempts: 1, Taken: at, Started: at, Ended: at.Add(time.Millisecond), Seen: at}
		if i%1000 == 0 {
			j.State, j.Reason = job.Failed, "the command ended with exit status 1"
		}
		l.Record(j, "")
		l.RecordPlacement(job.Placement{ID: l.NextPlacement(), Job: j.ID, Attempt: 1, Source: j.File, Target: j.FileNow,
			Facts: j.Facts, State: job.Done, FinalState: j.State})
	}
	return l.Close()
}

// remember makes a ledger that knows all files of an inbox.
func remember(dir string) error {
	l, err := ledger.Open(filepath.Join(dir, ".stilltide"), func(error) {})
	if err != nil {
		return err
	}
	err = filepath.WalkDir(filepath.Join(dir, "in"), func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		facts, err := watchfs.Stat(path)
		l.Remember(job.Known{Rule: "known", File: path, Facts: facts, Job: 1})
		return err
	})
	return errors.Join(err, l.Close())
}
