package ledger

import (
	"context"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/machine"
	"stilltide/internal/tables"

	"github.com/stretchr/testify/require"
)

// Whatever is remembered, forgotten, written and asked for, in whatever order, the ledger
// tells what was said last: a law, over generated worlds, for one file, a stretch and a folder.
func TestKnownTellsWhatWasSaidLast(t *testing.T) {
	t.Parallel()
	for seed := range uint64(machine.Worlds(20)) {
		r := rand.New(rand.NewPCG(seed, 3))
		l := open(t, t.TempDir())
		world := map[tables.KnownKey]int64{}
		name := func(n int) string { return fmt.Sprintf("/in/%s/f-%03d", []string{"a", "a-b", "ä", "a b"}[n%4], n/4) }
		rules := []string{"r", "s", "rule"}
		for step := range 60 {
			switch r.IntN(6) {
			case 0, 1: // a few files are handled, or gone
				for range r.IntN(40) {
					key := tables.KnownKey{Rule: rules[r.IntN(3)], File: name(r.IntN(400))}
					if r.IntN(3) == 0 {
						l.Forget(key.Rule, key.File)
						delete(world, key)
						continue
					}
					world[key] = int64(step)
					l.Remember(job.Known{Rule: key.Rule, File: key.File, Job: int64(step),
						Facts: file.Facts{Exists: true, Regular: true}})
				}
			case 2:
				require.NoError(t, l.Flush())
			case 3:
				require.NoError(t, l.Sync(context.Background()))
			case 4: // a look through the folder
				requireStretch(t, l, world, rules[r.IntN(3)], name(r.IntN(400)), name(r.IntN(400)), seed)
				requireCount(t, l, world, rules[r.IntN(3)], seed)
				requireBelow(t, l, world, rules[r.IntN(3)], "/in/"+[]string{"a", "a-b"}[r.IntN(2)], seed)
			default: // events
				for range r.IntN(100) {
					requireKnown(t, l, world, tables.KnownKey{Rule: rules[r.IntN(3)], File: name(r.IntN(400))}, seed)
				}
			}
		}
		require.NoError(t, l.Close())
	}
}

func requireKnown(t *testing.T, l *Ledger, world map[tables.KnownKey]int64, key tables.KnownKey, seed uint64) {
	k, is, err := l.Known(key.Rule, key.File)
	require.NoError(t, err)
	want, wanted := world[key]
	require.Equal(t, wanted, is, "seed %d: %v", seed, key)
	require.Equal(t, want, k.Job, "seed %d: %v", seed, key)
	require.True(t, !is || k.File == key.File && k.Rule == key.Rule, "seed %d: %v", seed, key)
}

// requireStretch asks for a stretch of paths. What is told is so; what is not told was changed
// lately.
func requireStretch(t *testing.T, l *Ledger, world map[tables.KnownKey]int64, rule, from, to string, seed uint64) {
	told, last := map[string]bool{}, ""
	l.mu.Lock()
	lately := maps.Clone(l.known)
	l.mu.Unlock()
	list, err := l.KnownAmong(rule, from, to, 1)
	require.NoError(t, err)
	if len(list) == 0 && len(lately) > 0 {
		return // the table was written all the while
	}
	for _, k := range list {
		require.Greater(t, k.File, last, "seed %d", seed)
		require.Equal(t, world[tables.KnownKey{Rule: rule, File: k.File}], k.Job, "seed %d: %s", seed, k.File)
		told[k.File], last = true, k.File
	}
	for key := range world {
		if key.Rule == rule && from <= key.File && key.File <= to && !told[key.File] {
			require.Contains(t, lately, key, "seed %d", seed)
		}
	}
}

func requireCount(t *testing.T, l *Ledger, world map[tables.KnownKey]int64, rule string, seed uint64) {
	want := 0
	for key := range world {
		if key.Rule == rule {
			want++
		}
	}
	require.Equal(t, want, l.KnownCount(rule), "seed %d: %s", seed, rule)
}

// requireBelow asks for what is known below a folder, page by page.
func requireBelow(t *testing.T, l *Ledger, world map[tables.KnownKey]int64, rule, folder string, seed uint64) {
	var want, files []string
	for key := range world {
		if key.Rule == rule && strings.HasPrefix(key.File, folder+"/") {
			want = append(want, key.File)
		}
	}
	slices.Sort(want)
	for after := ""; ; {
		page, next, err := l.KnownFiles(rule, folder, after)
		require.NoError(t, err)
		files = append(files, page...)
		if after = next; next == "" {
			break
		}
	}
	require.Equal(t, want, files, "seed %d: %s below %s", seed, rule, folder)
	if n, all := l.KnownBelow(rule, folder); all {
		require.Len(t, want, n, "seed %d: %s below %s", seed, rule, folder)
	}
}

// Pages join to the whole, with what is on its way to the table in its place.
func TestKnownFilesComeInPages(t *testing.T) {
	l, err := OpenStepped(t.TempDir()) // nothing is written until somebody waits for it
	require.NoError(t, err)
	defer l.Close()
	var want []string
	remember := func(n int) {
		want = append(want, fmt.Sprintf("/in/%06d", n))
		l.Remember(job.Known{Rule: "r", File: want[len(want)-1], Job: 1, Facts: file.Facts{Exists: true}})
	}
	for n := range 2*knownPage + 5 {
		remember(2 * n)
	}
	require.NoError(t, l.Flush())
	for _, n := range []int{1, 2*knownPage - 1, 2*knownPage + 1, 9 * knownPage} {
		remember(n)
	}
	slices.Sort(want)
	var files []string
	pages := 0
	for after := ""; ; pages++ {
		page, next, err := l.KnownFiles("r", "/in", after)
		require.NoError(t, err)
		files = append(files, page...)
		if after = next; next == "" {
			break
		}
	}
	require.Equal(t, want, files)
	require.Equal(t, 2, pages)
}

// BenchmarkKnownAmong is what the ledger does for a file that is known, when a folder is
// looked through.
func BenchmarkKnownAmong(b *testing.B) {
	l, err := Open(b.TempDir(), func(err error) { b.Error(err) })
	require.NoError(b, err)
	defer l.Close()
	const files = 50_000
	name := func(n int) string { return fmt.Sprintf("/srv/harbour/in/gauge-%06d.csv", n) }
	for n := range files {
		l.Remember(job.Known{Rule: "r", File: name(n), Job: 1, Facts: file.Facts{Exists: true}})
	}
	require.NoError(b, l.Flush())
	b.ResetTimer()
	for n := 0; n < b.N; n += files {
		if list, err := l.KnownAmong("r", name(0), name(files-1), files); err != nil || len(list) != files {
			b.Fatal(len(list), err)
		}
	}
}
