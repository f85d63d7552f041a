//go:build linux

package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"

	_ "modernc.org/sqlite" // the driver, to fill a ledger
)

// sweptPerFile sweeps n files and returns the time of one, in microseconds.
func (b *bench) sweptPerFile(n int, setUp func(dir string) error, rules string) (float64, error) {
	dir, err := b.office("growth", rules)
	if err != nil {
		return 0, err
	}
	if err := os.Mkdir(filepath.Join(dir, "out"), 0o777); err != nil {
		return 0, err
	}
	if err := setUp(dir); err != nil {
		return 0, err
	}
	if err := drop(filepath.Join(dir, "in"), n); err != nil {
		return 0, err
	}
	took, err := timed(dir, b.program, "sweep", "--json")
	return took / float64(n) * 1e6, err
}

// manyRules is a rules file in which n rules stand before the one that takes the files.
func manyRules(n int) string {
	var text strings.Builder
	text.WriteString("rules:\n")
	for i := range n {
		fmt.Fprintf(&text, "  - {name: r%d, watch: other/%d, match: \"*.csv\", processed: out}\n", i, i)
	}
	return text.String() + "  - {name: move, watch: in, debounce: 0s, processed: out}\n"
}

// growthCase: twice as many files, rules or rows of history: what a file costs then.
func growthCase(b *bench) error {
	perFile := b.sweptPerFile
	nothing := func(string) error { return nil }
	history := func(rows int) func(dir string) error {
		return func(dir string) error { return fillHistory(dir, rows) }
	}
	burst := func(n int) (float64, error) {
		took, _, err := b.movedBy(n, b.watcher)
		return took / float64(n) * 1e6, err
	}
	n := b.count(10_000)
	for _, c := range []struct {
		what string
		a, b func() (float64, error)
	}{
		{fmt.Sprintf("%d → %d files in a sweep", n, 2*n),
			func() (float64, error) { return perFile(n, nothing, moveRules) },
			func() (float64, error) { return perFile(2*n, nothing, moveRules) }},
		{fmt.Sprintf("%d → %d files at once", 2*n, 4*n), func() (float64, error) { return burst(2 * n) },
			func() (float64, error) { return burst(4 * n) }},
		{"150 → 300 rules", func() (float64, error) { return perFile(n, nothing, manyRules(150)) },
			func() (float64, error) { return perFile(n, nothing, manyRules(300)) }},
		{"200,000 → 400,000 rows of history",
			func() (float64, error) { return perFile(n, history(200_000), moveRules) },
			func() (float64, error) { return perFile(n, history(400_000), moveRules) }},
	} {
		r := Result{Case: "per file: " + c.what, Unit: "µs", Baseline: "half of it"}
		for range b.rounds {
			base, ours, err := framed(c.a, c.b)
			if err != nil {
				return err
			}
			r.Base, r.Ours = append(r.Base, base), append(r.Ours, ours)
		}
		b.add(r, "ratio", 1.1)
	}
	return nil
}
