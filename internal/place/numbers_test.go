//go:build linux

package place

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"

	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/machine"
	"stilltide/internal/naming"
	"stilltide/internal/watchfs"
)

// A Placer that remembers the numbers of a name does the same as one that looks at each.
func TestRememberedNumbersChangeNothing(t *testing.T) {
	base := machine.Memory(t)
	for seed := range uint64(machine.Worlds(60)) {
		var stories [2][]string
		for i, numbers := range []*naming.Numbers{nil, {}} {
			dir := filepath.Join(base, fmt.Sprint(seed, i))
			stories[i] = playNumbers(t, &Placer{Numbers: numbers}, dir, rand.New(rand.NewPCG(seed, 1)))
		}
		require.Equal(t, strings.Join(stories[0], "\n"), strings.Join(stories[1], "\n"), "seed %d", seed)
	}
}

// playNumbers moves and copies files to a few names, out of their folder again, and
// leaves names to others. It tells what came of each.
func playNumbers(t *testing.T, p *Placer, dir string, r *rand.Rand) (story []string) {
	names := []string{"a.txt", "b", "a-2.txt"}
	const headSize = 64 << 10 // a first difference may lie beyond what is compared at first
	contents := []string{"", "1", "2", "33", "44", strings.Repeat("x", headSize) + "1",
		strings.Repeat("x", headSize) + "2"}
	for i := range 60 {
		source := filepath.Join(dir, "in", fmt.Sprint(i))
		write(t, source, contents[r.IntN(len(contents))])
		to := plan.Spot{Root: filepath.Join(dir, "out"), Name: names[r.IntN(len(names))]}
		var first []job.Ahead
		switch placed, _ := os.ReadDir(filepath.Join(dir, "out")); {
		case len(placed) > 0 && r.IntN(4) == 0: // on to another folder, or to another name
			source = filepath.Join(dir, "out", placed[r.IntN(len(placed))].Name())
			if r.IntN(2) == 0 {
				to.Root = filepath.Join(dir, "on")
			}
		case i > 0 && r.IntN(4) == 0:
			first = []job.Ahead{{Path: filepath.Join(dir, "in", fmt.Sprint(r.IntN(i))), Done: &atomic.Bool{}}}
		}
		facts, err := watchfs.Stat(source)
		require.NoError(t, err)
		req := Request{Source: source, To: to, Expect: facts, Ledger: "t", Job: int64(i), First: first,
			Kept: filepath.Join(dir, "kept")}
		act, verb := p.Move, "move"
		if r.IntN(3) == 0 {
			act, verb = p.Copy, "copy"
		}
		res, err := act(req)
		require.NoError(t, err)
		story = append(story, strings.ReplaceAll(fmt.Sprintf("%s %s to %s: %s, same %v, here %v", verb, source,
			to.Path(), res.Target, res.Same, res.Here), dir+"/", ""))
	}
	return story
}

func TestTheHundredthFileOfANameLooksAtFewOfThem(t *testing.T) {
	dir := t.TempDir()
	looks := 0
	p := Placer{Numbers: &naming.Numbers{}, Before: func(string, ...string) error { looks++; return nil }}
	most := 0
	for i := range 300 {
		r := request(dir, write(t, filepath.Join(dir, "in", "a.txt"), fmt.Sprint(1000+i)))
		looks = 0
		_, err := p.Move(r)
		require.NoError(t, err)
		if i > 2 {
			most = max(most, looks)
		}
	}
	require.Less(t, most, 20)
	require.FileExists(t, filepath.Join(dir, "out", "deep", "a-300.txt"))
}

func TestANumberThatSomebodyGaveFreeIsUsedAgainSoonerOrLater(t *testing.T) {
	dir := t.TempDir()
	p := Placer{Numbers: &naming.Numbers{}}
	place := func(content string) string {
		res, err := p.Move(request(dir, write(t, filepath.Join(dir, "in", "a.txt"), content)))
		require.NoError(t, err)
		return filepath.Base(res.Target)
	}
	for i := range 5 {
		place(fmt.Sprint(i))
	}
	require.NoError(t, os.Remove(filepath.Join(dir, "out", "deep", "a.txt")))
	require.Equal(t, "a.txt", place("wanted name"))
	require.NoError(t, os.RemoveAll(filepath.Join(dir, "out", "deep")))
	require.Equal(t, "a.txt", place("x"))
	require.Equal(t, "a-2.txt", place("y"), "what was known is forgotten when its last number is gone")
}
