//go:build linux

package main

import "fmt"

// besideCase: this version beside another, in turn, where a tenth would be felt. It is skipped
// unless --beside says where the other program is.
func besideCase(b *bench) error {
	if b.beside == "" {
		return nil
	}
	moved := func(n int) func() (float64, error) {
		return func() (float64, error) {
			seconds, _, err := b.movedBy(n, b.watcher)
			return seconds, err
		}
	}
	few, many := b.count(12_000), b.count(100_000)
	for _, pair := range []struct {
		what string
		run  func() (float64, error)
	}{
		{fmt.Sprintf("%d files dropped, each moved", few), moved(few)},
		{fmt.Sprintf("%d files dropped, each moved", many), moved(many)},
		{"sweep, a tiny command each", b.commands},
	} {
		r := Result{Case: pair.what, Unit: "s", Baseline: "the other version"}
		for range b.rounds {
			theirs, err := b.byOther(pair.run)
			if err != nil {
				return err
			}
			ours, err := pair.run()
			if err != nil {
				return err
			}
			r.Base, r.Ours = append(r.Base, theirs), append(r.Ours, ours)
		}
		b.add(r, "ratio", 1.1)
	}
	return nil
}

// byOther times something with the other version of the program.
func (b *bench) byOther(run func() (float64, error)) (float64, error) {
	defer func(ours string) { b.program = ours }(b.program)
	b.program = b.beside
	return run()
}

// commands times a sweep with a tiny command for each file.
func (b *bench) commands() (float64, error) {
	dir, err := b.tinyCommands(b.count(2000))
	if err != nil {
		return 0, err
	}
	return timed(dir, b.program, "sweep", "--json")
}
