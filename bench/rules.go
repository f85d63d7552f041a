//go:build linux

package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"
)

// rulesCase: many rules with an expression each, in a tenth as many folders.
func rulesCase(b *bench) error {
	n := b.count(5000)
	check := Result{Case: fmt.Sprintf("%d rules with an expression each: check", n), Unit: "s"}
	ready := Result{Case: "the same: watch is ready", Unit: "s"}
	memory := Result{Case: "the same: memory at most", Unit: "MiB"}
	for range b.rounds {
		dir, err := b.manyRules(n, func(i int) string {
			return fmt.Sprintf("where: 'size > %d * KB && name.startsWith(\"g%d\")', processed: done", i, i)
		})
		if err != nil {
			return err
		}
		took, err := timed(dir, b.program, "check")
		if err != nil {
			return err
		}
		check.Ours = append(check.Ours, took)
		begun := time.Now()
		p, err := b.start("ready: ", dir, b.program, "watch")
		if err != nil {
			return err
		}
		ready.Ours = append(ready.Ours, time.Since(begun).Seconds())
		memory.Ours = append(memory.Ours, p.status("VmHWM")/1024)
		p.stop()
	}
	b.add(check, "value", 0.5)
	b.add(ready, "value", 1)
	b.add(memory, "value", 120)
	return nil
}

// manyRules is a folder with n rules, ten for each watched folder; spell writes one.
func (b *bench) manyRules(n int, spell func(i int) string) (string, error) {
	var rules strings.Builder
	rules.WriteString("rules:\n")
	for i := range n {
		rules.WriteString("  - {name: r" + fmt.Sprint(i) + ", watch: in/" + fmt.Sprint(i/10) + ", " + spell(i) + "}\n")
	}
	dir, err := b.office("rules", rules.String())
	for i := 0; i < n && err == nil; i += 10 {
		err = os.Mkdir(filepath.Join(dir, "in", fmt.Sprint(i/10)), 0o777)
	}
	return dir, err
}

// rulesGrowCase: four times as many rules and watched folders, a file for every other rule: what a rule costs then.
func rulesGrowCase(b *bench) error {
	n := b.count(2500)
	for _, command := range []string{"check", "preview", "sweep"} {
		perRule := func(n int) func() (float64, error) {
			return func() (float64, error) {
				dir, err := b.placedBy(n)
				if err != nil {
					return 0, err
				}
				took, err := timed(dir, b.program, command)
				return took / float64(n) * 1e6, err
			}
		}
		r := Result{Case: fmt.Sprintf("%s, per rule: %d → %d rules", command, n, 4*n), Unit: "µs",
			Baseline: "a quarter of them"}
		for range b.rounds {
			base, ours, err := framed(perRule(n), perRule(4*n))
			if err != nil {
				return err
			}
			r.Base, r.Ours = append(r.Base, base), append(r.Ours, ours)
		}
		b.add(r, "ratio", 1.1)
	}
	return nil
}

// placedBy has n such rules move files, of which there is one for every other rule.
func (b *bench) placedBy(n int) (string, error) {
	dir, err := b.manyRules(n, func(i int) string {
		return fmt.Sprintf("match: '*.t%d', debounce: 0s, processed: 'done/%d'", i%10, i/10)
	})
	for i := 0; i < n && err == nil; i += 2 {
		err = os.WriteFile(filepath.Join(dir, "in", fmt.Sprint(i/10), fmt.Sprintf("f.t%d", i%10)), nil, 0o666)
	}
	return dir, err
}
