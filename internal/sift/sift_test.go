package sift

import (
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/core/notation"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/take"
	"stilltide/internal/ledger"
	"stilltide/internal/look"
	_ "stilltide/internal/verbs" // the verbs
	"stilltide/internal/watchfs"
)

// office is a folder with rules, and a ledger of what they remember.
type office struct {
	t   *testing.T
	dir string
	set *plan.Set
	*ledger.Ledger
}

func newOffice(t *testing.T, rules string) *office {
	o := &office{t: t, dir: t.TempDir()}
	require.NoError(t, os.MkdirAll(o.in(), 0o777))
	parsed, diags := notation.Parse(filepath.Join(o.dir, "stilltide.yaml"), []byte("version: 1\nrules:\n"+rules))
	require.Empty(t, diags)
	o.set = look.NewSet(parsed)
	var err error
	o.Ledger, err = ledger.Open(filepath.Join(o.dir, "state"), func(err error) { require.NoError(t, err) })
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, o.Close()) })
	return o
}

func (o *office) in(names ...string) string {
	return filepath.Join(append([]string{o.dir, "in"}, names...)...)
}

func (o *office) write(path, content string) file.Facts {
	require.NoError(o.t, os.MkdirAll(filepath.Dir(path), 0o777))
	require.NoError(o.t, os.WriteFile(path, []byte(content), 0o666))
	facts, err := watchfs.Stat(path)
	require.NoError(o.t, err)
	return facts
}

// sweep sweeps the inbox and returns the files that were told.
func (o *office) sweep(s *Sifter) (told []string) {
	w, err := watchfs.New(watchfs.Options{Once: true, Sift: s.Begin})
	require.NoError(o.t, err)
	defer w.Close()
	w.Want(map[string]int{o.in(): watchfs.Deepest})
	for {
		for _, e := range <-w.Events() {
			switch {
			case e.Kind == watchfs.Swept:
				require.NoError(o.t, e.Err)
				return told
			case e.Kind == watchfs.Found && !e.Dir:
				told = append(told, e.Path)
			}
		}
	}
}

// effect reports whether the decision on a file, with all that can be asked, has any.
func (o *office) effect(path string, byHand bool) bool {
	facts, err := watchfs.Look(path)
	require.NoError(o.t, err)
	v, err := take.Decide(o.set.Candidates(path), take.Offer{Facts: facts, ByHand: byHand, Now: time.Now()},
		take.Sources{
			Memory: take.MemoryOf(o.Ledger),
			Inside: func(c plan.Candidate, facts *file.Facts) error {
				look.Complete(o.set, c.Rule, path, facts)
				return nil
			},
		})
	require.NoError(o.t, err)
	return v.Taker != nil || len(v.Remember) > 0 || !v.Older.IsZero()
}

const manyRules = `  - {name: left, watch: in, depth: all, match: "*.csv", existing: leave, where: size > 2, processed: stay}
  - {name: shared, watch: in, depth: all, match: "[a-m]*", share: true, run: "true"}
  - {name: deaf, watch: in, depth: all, match: "*.log", events: [removed], run: "true"}
  - {name: kind, watch: in, depth: all, match: "*.csv", where: 'media_type.startsWith("text/")', run: "true"}
  - {name: old, watch: in, depth: 1, match: "*.txt", where: age > duration("1h"), run: "true"}
  - {name: rest, watch: in, depth: all, match: "**", run: "true"}
`

// Whatever the rules remember, a sieve holds back only files whose decision has no effect, and all
// of those that are handled already; and when it says that all known files were seen, none is
// missing.
func TestWhatIsHeldBackNeedsNoDecision(t *testing.T) {
	held, seenAll := 0, 0
	for seed := range uint64(24) {
		r := rand.New(rand.NewPCG(seed, 11))
		o := newOffice(t, manyRules)
		world := o.fill(r, 1+r.IntN(60))
		require.NoError(t, o.Flush())
		byHand := r.IntN(2) == 0
		s := New(o, byHand)
		s.Use(o.set)
		told := o.sweep(s)
		var missing []string
		for path, there := range world {
			switch {
			case !there:
				missing = append(missing, path)
			case !slices.Contains(told, path):
				held++
				require.False(t, o.effect(path, byHand), "seed %d: %s was held back", seed, path)
			}
		}
		for _, rule := range o.set.Rules() {
			known, _, err := o.KnownFiles(rule.Name.S, o.in(), "")
			require.NoError(t, err)
			gone := slices.ContainsFunc(known, func(path string) bool { return slices.Contains(missing, path) })
			if s.SawAll(o.in(), rule.Name.S) {
				seenAll++
				require.False(t, gone, "seed %d: not all that %s knows is there", seed, rule.Name.S)
			}
		}
	}
	require.Greater(t, held, 100, "the worlds hold files that need no decision")
	require.Greater(t, seenAll, 10, "and folders from which nothing is missing")
}

// fill makes files, and has rules remember them as they are, or otherwise. It returns the paths,
// and whether a file is there.
func (o *office) fill(r *rand.Rand, files int) map[string]bool {
	world := map[string]bool{}
	folders := []string{"", "a", "a/b", "a-b", "m.d", "z"}
	endings := []string{".csv", ".log", ".txt", ""}
	mostly := r.IntN(3) > 0
	for n := range files {
		path := o.in(folders[r.IntN(len(folders))], fmt.Sprintf("%c-%d%s", 'a'+rune(r.IntN(26)), n,
			endings[r.IntN(len(endings))]))
		facts := o.write(path, "0123456789"[:r.IntN(10)])
		world[path] = true
		for _, rule := range o.set.Rules() {
			fits := slices.ContainsFunc(o.set.Candidates(path), func(c plan.Candidate) bool { return c.Rule == rule })
			if r.IntN(2) == 0 && !mostly || mostly && !fits {
				continue // most rules remember what they could take
			}
			known := job.Known{Rule: rule.Name.S, File: path, Facts: facts, Job: int64(r.IntN(3))}
			if r.IntN(8) == 0 {
				known.Facts.Size++
			}
			o.Remember(known)
		}
		if r.IntN(40) == 0 {
			require.NoError(o.t, os.Remove(path))
			world[path] = false
		}
	}
	return world
}

const oneRule = `  - {name: known, watch: in, depth: all, run: "true"}
`

// knowAll has the rule remember so many files as they are.
func (o *office) knowAll(files int) {
	for n := range files {
		path := o.in(fmt.Sprint(n%3), fmt.Sprintf("gauge-%04d.csv", n))
		o.Remember(job.Known{Rule: "known", File: path, Facts: o.write(path, "x"), Job: 1})
	}
	require.NoError(o.t, o.Flush())
}

// Of a tree that is known nothing is told, and nothing of it is looked for.
func TestAKnownTreeIsQuiet(t *testing.T) {
	o := newOffice(t, oneRule)
	o.knowAll(2000)
	s := New(o, false)
	s.Use(o.set)
	require.Empty(t, o.sweep(s))
	require.True(t, s.SawAll(o.in(), "known"))

	changed := o.in("1", "gauge-0001.csv")
	o.write(changed, "another content")
	require.NoError(t, os.Remove(o.in("2", "gauge-0002.csv")))
	require.Equal(t, []string{changed}, o.sweep(s))
	require.False(t, s.SawAll(o.in(), "known"), "one is missing")
}

// What was forgotten or remembered during a sweep, or is not written yet, is not counted.
func TestAChangeDuringASweepIsNotCounted(t *testing.T) {
	o := newOffice(t, oneRule)
	o.knowAll(10)
	s := New(o, false)
	s.Use(o.set)
	o.sweep(s)
	o.Forget("known", o.in("0", "gauge-0000.csv"))
	o.Remember(job.Known{Rule: "known", File: o.in("gone.csv"), Job: 1})
	require.False(t, s.SawAll(o.in(), "known"), "not written yet")
	require.NoError(t, o.Flush())
	require.False(t, s.SawAll(o.in(), "known"), "as many as were seen, but others")
}

// A sweep that is to tell all tells all, and so does one whose rules are replaced meanwhile.
func TestASweepThatTellsAll(t *testing.T) {
	o := newOffice(t, oneRule)
	o.knowAll(10)
	s := New(o, false)
	require.Len(t, o.sweep(s), 10)
	s.Use(o.set)
	sieve := s.Begin(o.in())
	s.Use(nil)
	d, err := os.Open(o.in("0"))
	require.NoError(t, err)
	defer d.Close()
	quiet := make([]bool, 1)
	sieve.Quiet(d, []watchfs.Entry{"gauge-0000.csv"}, quiet, func() {})
	require.False(t, quiet[0])
	require.Len(t, o.sweep(s), 10)
}

// A file that some rule handles all again on is always told: it may have changed while no watcher
// ran.
func TestASettingIsAlwaysTold(t *testing.T) {
	o := newOffice(t, "  - {name: known, watch: in, match: \"*.csv\", again_on: in/prices.csv, run: \"true\"}\n")
	path := o.in("prices.csv")
	o.Remember(job.Known{Rule: "known", File: path, Facts: o.write(path, "x"), Job: 1})
	require.NoError(t, o.Flush())
	s := New(o, false)
	s.Use(o.set)
	require.Equal(t, []string{path}, o.sweep(s))
}

// A rule that takes folders sees the whole of them.
func TestFoldersAreToldWhole(t *testing.T) {
	o := newOffice(t, "  - {name: known, watch: in, unit: folder, run: \"true\"}\n")
	require.True(t, o.set.TakesFolders())
	s := New(o, false)
	s.Use(o.set)
	require.Nil(t, s.Begin(o.in()))
}

// What lies below a folder is not read with the files beside it.
func TestStretchesEndAtFolders(t *testing.T) {
	o := newOffice(t, oneRule)
	for _, name := range []string{"a.csv", "b/x.csv", "b/y.csv", "b.csv", "c.csv"} {
		path := o.in(filepath.FromSlash(name))
		o.Remember(job.Known{Rule: "known", File: path, Facts: o.write(path, "x"), Job: 1})
	}
	require.NoError(t, o.Flush())
	counted := &countingMemory{Memory: o}
	s := New(counted, false)
	s.Use(o.set)
	require.Empty(t, o.sweep(s))
	require.Equal(t, 5, counted.rows, "each row once")
}

type countingMemory struct {
	Memory
	rows int
}

func (m *countingMemory) KnownAmong(rule, from, to string, about int) ([]job.Known, error) {
	list, err := m.Memory.KnownAmong(rule, from, to, about)
	m.rows += len(list)
	return list, err
}

// A folder that cannot be read is as it was: nothing of it is held back or counted.
func TestAFailingMemoryHoldsNothingBack(t *testing.T) {
	o := newOffice(t, oneRule)
	o.knowAll(10)
	s := New(brokenMemory{o}, false)
	s.Use(o.set)
	require.Len(t, o.sweep(s), 10)
}

type brokenMemory struct{ Memory }

func (brokenMemory) KnownAmong(string, string, string, int) ([]job.Known, error) {
	return nil, fs.ErrInvalid
}
