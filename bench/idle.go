//go:build linux

package main

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"
)

// idleCase: nothing happens.
func idleCase(b *bench) error {
	var rules strings.Builder
	rules.WriteString("rules:\n")
	for i := range 300 {
		fmt.Fprintf(&rules, "  - {name: r%d, watch: in/%d, match: \"gauge-<station>_<day>.csv\", processed: "+
			"\"out/{station}\"}\n", i, i)
	}
	if err := b.idle("300 rules", rules.String(), 300, 40); err != nil {
		return err
	}
	return b.idle("10,000 folders", "rules: [{name: deep, watch: in, depth: all, processed: out}]\n", 10_000, 60)
}

func (b *bench) idle(what, rules string, folders int, memory float64) error {
	dir, err := b.office("idle", rules)
	if err != nil {
		return err
	}
	for i := range folders {
		if err := os.Mkdir(filepath.Join(dir, "in", fmt.Sprint(i)), 0o777); err != nil {
			return err
		}
	}
	p, err := b.watcher(dir)
	if err != nil {
		return err
	}
	defer p.stop()
	time.Sleep(3 * time.Second)
	ticks, wakeups := p.ticks(), p.wakeups()
	time.Sleep(10 * time.Second)
	b.add(Result{Case: "idle with " + what + ": CPU in 10 s", Unit: "ticks", Ours: []float64{p.ticks() - ticks}},
		"value", 0)
	b.add(Result{Case: "the same: wake-ups in 10 s", Unit: "", Ours: []float64{p.wakeups() - wakeups}}, "value", 20)
	b.add(Result{Case: "the same: memory", Unit: "MiB", Ours: []float64{p.status("VmRSS") / 1024}}, "value", memory)
	return nil
}

// treeCase: a tree of many folders, all of them watched.
func treeCase(b *bench) error {
	n := b.count(100_000)
	work := Result{Case: fmt.Sprintf("%d watched folders: a file that was there is moved", n), Unit: "s"}
	memory := Result{Case: "the same: memory, at rest", Unit: "MiB"}
	ticks := Result{Case: "the same: CPU in 3 s", Unit: "ticks"}
	dir, err := b.office("tree", "rules: [{name: deep, watch: in, depth: all, debounce: 0s, processed: out}]\n")
	if err != nil {
		return err
	}
	last := ""
	for i := range n {
		last = filepath.Join(dir, "in", fmt.Sprintf("%04d", i/1000), fmt.Sprintf("%03d", i%1000))
		if err := os.MkdirAll(last, 0o777); err != nil {
			return err
		}
	}
	for range b.rounds {
		if err := os.WriteFile(filepath.Join(last, "late.csv"), nil, 0o666); err != nil {
			return err
		}
		begun := time.Now()
		p, err := b.watcher(dir)
		if err != nil {
			return err
		}
		for _, err = os.Lstat(filepath.Join(last, "late.csv")); err == nil; time.Sleep(time.Millisecond) {
			if _, err = os.Lstat(filepath.Join(last, "late.csv")); time.Since(begun) > time.Minute {
				return errors.New("the watcher moves nothing")
			}
		}
		work.Ours = append(work.Ours, time.Since(begun).Seconds())
		time.Sleep(7 * time.Second) // what the start has used is given back
		before := p.ticks()
		time.Sleep(3 * time.Second)
		ticks.Ours = append(ticks.Ours, p.ticks()-before)
		memory.Ours = append(memory.Ours, p.status("VmRSS")/1024)
		p.stop()
	}
	b.add(work, "value", 0.7)
	b.add(memory, "value", 60)
	b.add(ticks, "value", 0)
	return nil
}
