package ledger

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/machine"
)

// The job that is not over is found by each of its files, in the tables and before it is there, and
// by none that it has lost, whatever happens to it and to those before it.
func TestAnOpenJobIsFoundByEachOfItsFiles(t *testing.T) {
	t.Parallel()
	for seed := range uint64(machine.Worlds(5)) {
		r := rand.New(rand.NewPCG(seed, 5))
		l, err := OpenStepped(t.TempDir())
		require.NoError(t, err)
		open := map[int64]*job.Job{}
		recorded := map[int64]job.State{}
		several := map[int64]bool{}
		record := func(j *job.Job) {
			l.Record(*j, recorded[j.ID])
			if several[j.ID] && len(j.Extra) == 0 {
				l.RecordMembers(*j)
			}
			recorded[j.ID], several[j.ID] = j.State, len(j.Extra) > 0
		}
		taken := func() map[string]int64 {
			by := map[string]int64{}
			for _, j := range open {
				by[j.File] = j.ID
				for _, m := range j.Extra {
					by[m.File] = j.ID
				}
			}
			return by
		}
		for range 300 {
			switch r.IntN(6) {
			case 0, 1:
				j := &job.Job{ID: l.NextID(), Rule: "r", Watch: "/in", State: job.Queued, Event: file.Added,
					Taken: when}
				for _, n := range r.Perm(12)[:1+r.IntN(4)] {
					path := fmt.Sprintf("/in/%d", n)
					switch _, has := taken()[path]; {
					case has:
					case j.File == "":
						j.File, j.FileNow = path, path
					default:
						j.Extra = append(j.Extra, job.Member{File: path, FileNow: path, Companion: r.IntN(4) == 0})
					}
				}
				if j.File != "" {
					open[j.ID] = j
					record(j)
				}
			case 2, 3:
				for id, j := range open { // one of them
					if r.IntN(3) == 0 {
						j.Become(job.Running)
						j.Become(job.Processed)
						j.Ended = when
						delete(open, id)
					} else if n := len(j.Extra); n > 0 { // it loses a file, perhaps its first
						j.Extra = slices.Clone(j.Extra)
						if r.IntN(2) == 0 {
							j.File = j.Extra[n-1].File
						}
						j.Extra = j.Extra[:n-1]
					}
					record(j)
					break
				}
			case 4:
				require.NoError(t, l.Flush())
			}
			by := taken()
			for n := range 12 {
				path := fmt.Sprintf("/in/%d", n)
				found, ok, err := l.OpenJob(path)
				require.NoError(t, err)
				require.Equal(t, by[path], found.ID*map[bool]int64{true: 1}[ok], "seed %d: %s", seed, path)
			}
		}
		require.NoError(t, l.Close())
	}
}

// However long the history is, the job of a path is found by indexes.
func TestJobsOfAPathAreFoundByIndexes(t *testing.T) {
	l := open(t, t.TempDir())
	defer l.Close()
	requireIndexed(t, l, l.ask.open.text, "/in/a")
	requireIndexed(t, l, l.ask.later.text, "/in/a", 7)
}
