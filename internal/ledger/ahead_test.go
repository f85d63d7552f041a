package ledger

import (
	"context"
	"fmt"
	"math/rand/v2"
	"testing"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"

	"github.com/stretchr/testify/require"
)

// Whatever is remembered, forgotten, written and asked for, in whatever order, the ledger
// tells what was said last: a law, over generated worlds, for what is read ahead.
func TestKnownTellsWhatWasSaidLast(t *testing.T) {
	for seed := range uint64(20) {
		r := rand.New(rand.NewPCG(seed, 3))
		l := open(t, t.TempDir())
		world := map[knownKey]int64{}
		name := func(n int) string { return fmt.Sprintf("/in/%s/f-%03d", []string{"a", "a-b", "ä", "a b"}[n%4], n/4) }
		rules := []string{"r", "s", "rule"}
		for step := range 60 {
			switch r.IntN(6) {
			case 0, 1: // a few files are handled, or gone
				for range r.IntN(40) {
					key := knownKey{rules[r.IntN(3)], name(r.IntN(400))}
					if r.IntN(3) == 0 {
						l.Forget(key.rule, key.file)
						delete(world, key)
						continue
					}
					world[key] = int64(step)
					l.Remember(job.Known{Rule: key.rule, File: key.file, Job: int64(step),
						Facts: file.Facts{Exists: true, Regular: true}})
				}
			case 2:
				require.NoError(t, l.Flush())
			case 3:
				require.NoError(t, l.Sync(context.Background()))
			case 4: // a look through the folder
				rule := rules[r.IntN(3)]
				for n, every := r.IntN(400), 1+r.IntN(3); n < 400; n += every {
					requireKnown(t, l, world, knownKey{rule, name(n%100*4 + n/100)}, seed)
				}
			default: // events
				for range r.IntN(100) {
					requireKnown(t, l, world, knownKey{rules[r.IntN(3)], name(r.IntN(400))}, seed)
				}
			}
		}
		require.NoError(t, l.Close())
	}
}

func requireKnown(t *testing.T, l *Ledger, world map[knownKey]int64, key knownKey, seed uint64) {
	k, is, err := l.Known(key.rule, key.file)
	require.NoError(t, err)
	want, wanted := world[key]
	require.Equal(t, wanted, is, "seed %d: %v", seed, key)
	require.Equal(t, want, k.Job, "seed %d: %v", seed, key)
	require.True(t, !is || k.File == key.file && k.Rule == key.rule, "seed %d: %v", seed, key)
}

// A look through a folder in which all is known asks the table seldom.
func TestALookThroughAFolderReadsAhead(t *testing.T) {
	l := open(t, t.TempDir())
	defer l.Close()
	const files = 5000
	for n := range files {
		l.Remember(job.Known{Rule: "r", File: fmt.Sprintf("/in/%05d", n), Job: 1, Facts: file.Facts{Exists: true}})
	}
	require.NoError(t, l.Flush())
	var runs int
	var last *run
	for n := range files {
		_, is, err := l.Known("r", fmt.Sprintf("/in/%05d", n))
		require.NoError(t, err)
		require.True(t, is)
		if r := l.ahead.runs["r"]; r != last {
			runs, last = runs+1, r
		}
	}
	require.Less(t, runs, 20)
	_, is, err := l.Known("r", "/in/zzz")
	require.NoError(t, err)
	require.False(t, is)
}

// BenchmarkKnownInOrder is what the ledger does for a file that is known, when a folder is
// looked through.
func BenchmarkKnownInOrder(b *testing.B) {
	l, err := Open(b.TempDir(), func(err error) { b.Error(err) })
	require.NoError(b, err)
	defer l.Close()
	const files = 50_000
	names := make([]string, files)
	for n := range names {
		names[n] = fmt.Sprintf("/srv/harbour/in/gauge-%06d.csv", n)
		l.Remember(job.Known{Rule: "r", File: names[n], Job: 1, Facts: file.Facts{Exists: true}})
	}
	require.NoError(b, l.Flush())
	b.ResetTimer()
	for n := range b.N {
		if _, is, err := l.Known("r", names[n%files]); err != nil || !is {
			b.Fatal(is, err)
		}
	}
}
