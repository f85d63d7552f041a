package engine

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"stilltide/internal/core/file"
	"stilltide/internal/core/flow"
	"stilltide/internal/core/job"
	"stilltide/internal/core/notation"
	"stilltide/internal/core/plan"
	"stilltide/internal/ledger"
	"stilltide/internal/watchfs"
	"stilltide/internal/work"
)

// counted is a ledger that counts how often it is asked what a rule knows.
type counted struct {
	*ledger.Stepped
	asked int
}

func (c *counted) Known(rule, path string) (job.Known, bool, error) {
	c.asked++
	return c.Stepped.Known(rule, path)
}

// losing is a flow whose rule knows files, which are gone.
type losing struct {
	*flow.Flow
	t     *testing.T
	dir   string
	store *counted
	now   time.Time
}

func newLosing(t *testing.T, known int) *losing {
	dir := t.TempDir()
	rules, diags := notation.Parse(filepath.Join(dir, "stilltide.yaml"), []byte("version: 1\nrules:\n"+
		"  - {name: keep, watch: in, debounce: 1s, events: [added, removed], run: x}\n"))
	require.Empty(t, diags)
	require.NoError(t, os.Mkdir(filepath.Join(dir, "in"), 0o777))
	l := &losing{t: t, dir: dir, store: &counted{Stepped: newStore(t)}, now: time.Now()}
	see := &eyes{look: func(_ *watchfs.Looker, path string) (file.Facts, error) { return watchfs.Stat(path) }}
	l.Flow = flow.New(plan.NewSet(rules), l.store, see, &work.InHand{}, rand.Float64)
	for i := range known {
		l.store.Remember(job.Known{Rule: "keep", File: l.path(i), Job: 1, Facts: file.Facts{Exists: true, Regular: true,
			Dev: 1, Ino: uint64(i)}})
	}
	return l
}

func (l *losing) path(i int) string { return filepath.Join(l.dir, "in", fmt.Sprintf("f%04d", i)) }

// lose tells that files went.
func (l *losing) lose(n int) {
	for i := range n {
		l.WentAway(l.path(i), false, l.now)
	}
}

// pass lets time pass, and returns how often the ledger was asked meanwhile.
func (l *losing) pass(long time.Duration) (asked int) {
	before := l.store.asked
	l.now = l.now.Add(long)
	l.Advance(l.now)
	l.Wake(l.now)
	l.Took()
	return l.store.asked - before
}

// taken counts the jobs that there are.
func (l *losing) taken() int {
	jobs, err := l.store.Jobs(job.Filter{})
	require.NoError(l.t, err)
	for _, j := range jobs {
		require.Equal(l.t, file.Removed, j.Event)
	}
	return len(jobs)
}

// A rule that waits for a person, because very many of its files went, holds up no other: what went
// is sorted a part at a time, and asked about no more while it waits. Nothing is lost of it.
func TestAMassLossHoldsUpNothing(t *testing.T) {
	const files = 1000
	l := newLosing(t, files)
	l.lose(files)
	require.LessOrEqual(t, l.pass(time.Second), 200)
	require.Empty(t, l.Troubles(), "it is not known yet how many they are")
	for range 10 {
		require.LessOrEqual(t, l.pass(time.Millisecond), 200)
	}
	require.Contains(t, l.Troubles()["keep"], "1,000 of its 1,000 known files went at once")
	require.Zero(t, l.pass(time.Hour))
	l.lose(files) // a sweep finds them missing again
	require.Zero(t, l.pass(time.Hour))
	require.Zero(t, l.taken())
	l.SetPaused([]string{"keep"}, false, time.Time{})
	for range 3 {
		require.LessOrEqual(t, l.pass(time.Millisecond), 200)
	}
	var paths []string
	for i := range files {
		paths = append(paths, l.path(i))
	}
	l.Missing("keep", paths, l.now) // it is swept then
	for range 20 {
		require.LessOrEqual(t, l.pass(time.Second), 400)
	}
	require.Empty(t, l.Troubles())
	require.Equal(t, files, l.taken())
	_, more := l.Wake(l.now)
	require.False(t, more)
}

// Fewer than half may go; when more follow before those are done, they are counted together.
func TestALossThatGrowsBecomesAMass(t *testing.T) {
	l := newLosing(t, 1000)
	l.lose(450)
	for range 4 {
		l.pass(time.Second)
	}
	require.Positive(t, l.taken())
	require.Less(t, l.taken(), 450)
	l.lose(1000)
	for range 20 {
		l.pass(time.Second)
	}
	require.Contains(t, l.Troubles()["keep"], "known files went at once")
	require.Less(t, l.taken(), 450, "they wait for a person, too")
}

// A few files that go are decided on in the order in which they went.
func TestAFewFilesThatGo(t *testing.T) {
	l := newLosing(t, 30)
	for _, i := range []int{7, 3, 5} {
		l.WentAway(l.path(i), false, l.now)
	}
	require.NoError(t, os.WriteFile(l.path(3), nil, 0o666)) // an editor has replaced it
	at, more := l.Wake(l.now)
	require.True(t, more)
	require.Equal(t, l.now.Add(time.Second), at)
	l.pass(time.Second)
	jobs, err := l.store.Jobs(job.Filter{})
	require.NoError(t, err)
	var names []string
	for _, j := range jobs {
		names = append(names, filepath.Base(j.File))
	}
	require.ElementsMatch(t, []string{"f0007", "f0005"}, names)
}
