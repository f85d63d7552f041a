//go:build linux

// Command bench measures Still Tide against the least that could be done: it
// builds the program and small baselines, runs each pair in turn, several
// rounds in one go, and prints ratios with their median and spread. Times by
// themselves say little on a noisy machine; what one run of a pair does to
// both sides says more.
//
//	go run ./bench [--rounds 5] [--only move,latency] [--disk] [--json] [--scale 1] [--beside PROGRAM]
package main

import (
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
)

// Result is one case: what was measured, against what, and what was wanted.
type Result struct {
	Case     string    `json:"case"`
	Unit     string    `json:"unit"`
	Ours     []float64 `json:"ours"`
	Base     []float64 `json:"base,omitempty"` // empty if there is none
	Baseline string    `json:"baseline,omitempty"`
	Figure   string    `json:"figure"` // what the goal is about: ratio, difference, value
	Values   []float64 `json:"values"`
	Median   float64   `json:"median"`
	Low      float64   `json:"low"`
	High     float64   `json:"high"`
	Goal     float64   `json:"goal"`
	Reached  bool      `json:"reached"`
	Note     string    `json:"note,omitempty"`
}

// bench is one run of the suite.
type bench struct {
	rounds  int
	scale   float64
	folder  string // where the files of the cases lie
	tools   string // built programs
	program string
	beside  string // the program of another version, "" for none
	results []Result
}

// cases are the suite, in the order of its table.
var cases = []struct {
	name string
	run  func(*bench) error
}{
	{"move", moveCase}, {"latency", latencyCase}, {"commands", commandsCase}, {"scan", scanCase},
	{"known", knownCase}, {"cross", crossCase},
	{"idle", idleCase}, {"tree", treeCase}, {"queue", queueCase}, {"start", startCase}, {"rules", rulesCase},
	{"rulesgrow", rulesGrowCase},
	{"growth", growthCase}, {"large", largeCase}, {"flush", flushCase}, {"history", historyCase}, {"fleet", fleetCase},
	{"beside", besideCase},
}

func main() {
	rounds := flag.Int("rounds", 5, "how often each pair runs")
	only := flag.String("only", "", "only these cases, comma-separated")
	disk := flag.Bool("disk", false, "on the disk of the temporary folder, not on a memory file system")
	asJSON := flag.Bool("json", false, "print one JSON object a line")
	scale := flag.Float64("scale", 1, "part of the files of each case, for a quick look")
	beside := flag.String("beside", "", "a program of another version, which the case of that name compares with")
	flag.Parse()
	b := &bench{rounds: *rounds, scale: *scale, beside: *beside}
	if err := b.suite(*only, *disk, *asJSON); err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

func (b *bench) suite(only string, disk, asJSON bool) error {
	where := "/dev/shm"
	if disk {
		where = os.TempDir()
	}
	folder, err := os.MkdirTemp(where, "tide-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(folder)
	b.folder = folder
	if b.tools, err = os.MkdirTemp("", "tide-bench-tools-"); err != nil {
		return err
	}
	defer os.RemoveAll(b.tools)
	if err := b.build(); err != nil {
		return err
	}
	for _, c := range cases {
		if only != "" && !slices.Contains(strings.Split(only, ","), c.name) {
			continue
		}
		fmt.Fprintf(os.Stderr, "%s …\n", c.name)
		before := len(b.results)
		if err := c.run(b); err != nil {
			b.table(where) // what was measured before is not lost
			return fmt.Errorf("%s: %w", c.name, err)
		}
		if asJSON {
			for _, r := range b.results[before:] {
				if err := json.NewEncoder(os.Stdout).Encode(r); err != nil {
					return err
				}
			}
		}
	}
	if !asJSON {
		b.table(where)
	}
	return nil
}

func (b *bench) build() error {
	b.program = filepath.Join(b.tools, "stilltide")
	commands := [][]string{
		{"go", "build", "-o", b.program, "stilltide/cmd/stilltide"},
		{"go", "build", "-o", filepath.Join(b.tools, "empty"), "stilltide/bench/base/empty"},
		{"go", "build", "-o", filepath.Join(b.tools, "node"), "stilltide/internal/standin/node"},
		{"cc", "-O2", "-o", filepath.Join(b.tools, "watch"), "bench/base/watch.c"},
		{"cc", "-O2", "-o", filepath.Join(b.tools, "stamp"), "bench/base/stamp.c"},
	}
	for _, c := range commands {
		cmd := exec.Command(c[0], c[1:]...)
		cmd.Env = append(os.Environ(), "CGO_ENABLED=0")
		if out, err := cmd.CombinedOutput(); err != nil {
			return fmt.Errorf("%s: %v\n%s", strings.Join(c, " "), err, out)
		}
	}
	return nil
}

func (b *bench) tool(name string) string { return filepath.Join(b.tools, name) }

// count scales a number of files.
func (b *bench) count(n int) int { return max(int(float64(n)*b.scale), 10) }

// add keeps a case's result. figure says how each pair of measurements
// becomes a value: their ratio, their difference, or ours alone.
func (b *bench) add(r Result, figure string, goal float64) {
	r.Figure, r.Goal = figure, goal
	for i := range r.Ours {
		switch figure {
		case "ratio":
			r.Values = append(r.Values, r.Ours[i]/r.Base[i])
		case "difference":
			r.Values = append(r.Values, r.Ours[i]-r.Base[i])
		default:
			r.Values = append(r.Values, r.Ours[i])
		}
	}
	sorted := slices.Sorted(slices.Values(r.Values))
	r.Low, r.Median, r.High = sorted[0], sorted[len(sorted)/2], sorted[len(sorted)-1]
	r.Reached = r.Median <= goal
	b.results = append(b.results, r)
}

func (b *bench) table(where string) {
	fmt.Printf("%d rounds of each pair, in turn, in %s. Ratios are ours to the baseline's.\n\n", b.rounds, where)
	fmt.Printf("%-44s %-26s %10s %9s %19s %8s\n", "CASE", "BASELINE", "OURS", "FIGURE", "SPREAD", "GOAL")
	for _, r := range b.results {
		ours := slices.Sorted(slices.Values(r.Ours))[len(r.Ours)/2]
		mark := "reached"
		if !r.Reached {
			mark = "MISSED"
		}
		fmt.Printf("%-44s %-26s %10s %9s %19s %8s  %s\n", r.Case, r.Baseline, show(ours)+" "+r.Unit,
			r.show(r.Median),
			r.show(r.Low)+" … "+r.show(r.High), r.show(r.Goal), mark)
		if r.Note != "" {
			fmt.Printf("    %s\n", r.Note)
		}
	}
}

func (r Result) show(v float64) string {
	switch r.Figure {
	case "ratio":
		return fmt.Sprintf("%.2fx", v)
	case "difference":
		return fmt.Sprintf("%+.2f", v)
	}
	return show(v)
}

func show(v float64) string {
	if v >= 100 || v == float64(int(v)) {
		return fmt.Sprintf("%.0f", v)
	}
	return fmt.Sprintf("%.2f", v)
}
