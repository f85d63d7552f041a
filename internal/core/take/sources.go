package take

import (
	"path/filepath"
	"strings"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/core/loop"
	"stilltide/internal/core/plan"
)

// MemoryOf asks the ledger what a rule remembers.
func MemoryOf(l rememberer) func(plan.Candidate) (Memory, bool, error) {
	return func(c plan.Candidate) (Memory, bool, error) {
		k, ok, err := l.Known(c.Rule.Name.S, c.Unit)
		return Memory{Facts: k.Facts, Job: k.Job, Hash: k.Hash}, ok, err
	}
}

// OriginOf asks the ledger which rules a file went through before it came to its path,
// by itself or with a folder that it lies in.
func OriginOf(l originator, c plan.Candidate, facts file.Facts) ([]string, error) {
	name, before, ok, err := l.Origin(c.Unit, facts)
	for at := filepath.Dir(c.Unit); err == nil && !ok && at != c.Root &&
		at != filepath.Dir(at); at = filepath.Dir(at) {
		name, before, ok, err = l.FolderOrigin(at)
	}
	switch {
	case err != nil || !ok:
		return nil, err
	case before == "":
		return []string{name}, nil
	}
	return loop.Through(strings.Split(before, ","), name), nil
}

// rememberer is what the ledger remembers of files.
type rememberer interface {
	Known(rule, path string) (job.Known, bool, error)
}

// originator is what the ledger knows of where a file came from.
type originator interface {
	Origin(path string, f file.Facts) (rule, chain string, ok bool, err error)
	FolderOrigin(path string) (rule, chain string, ok bool, err error)
}

// MadeByRules reports whether the files of a folder were put there by rules, one by
// one: an archive that was unpacked is one whole, as long as no other job has ended in there.
func MadeByRules(set *plan.Set, l placedBelow, unit string) (bool, error) {
	names, ends, err := l.PlacedBelow(unit)
	if ends {
		return true, err
	}
	for _, name := range names {
		if r := set.Rule(name); r == nil || !r.Unpacks() {
			return true, err
		}
	}
	return false, err
}

// placedBelow is what the ledger knows of who filled a folder.
type placedBelow interface {
	PlacedBelow(folder string) (rules []string, ends bool, err error)
}
