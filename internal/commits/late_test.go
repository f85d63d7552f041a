package commits

import (
	"testing"
	"time"

	"stilltide/internal/tables"

	"github.com/stretchr/testify/require"
)

// late returns an underway with so many late rows.
func late(n int, now time.Time) tables.Underway {
	u := tables.NewUnderway()
	for i := range n {
		u.AddLate(u.Row(tables.RowKey{ID: int64(i)}), &tables.Record{}, now)
	}
	return u
}

// Who waits for urgent rows waits for late ones only where those are far too
// many, or far too old.
func TestWhoWaitsComesBeforeLateRows(t *testing.T) {
	now := time.Now()
	for _, c := range []struct {
		what   string
		rows   int
		age    time.Duration
		waited bool
		most   int // groups that are written
	}{
		{"few, just now", 10, 0, false, 0},
		{"old", 10, lateAtMost, false, 1},
		{"old, and somebody waits", 10, lateAtMost, true, 0},
		{"far too old", 10, 2 * lateAtMost, true, 1},
		{"many", manyLate + 1, 0, false, 2},
		{"many, and somebody waits", manyLate + 1, 0, true, 0},
		{"too many", maxLate, 0, true, 2},
	} {
		w := &Writer{rows: late(c.rows, now.Add(-c.age)), o: Options{Quiet: lateAfterBurst}, busy: now}
		n, wait := w.due(now, false, c.waited)
		require.Equal(t, c.most, n, c.what)
		require.Positive(t, wait, c.what)
	}
}

// A wait for a commit ends only when few enough rows are under way: so the memory does not grow
// with a burst, as the commits of the journal would let it.
func TestABurstWaitsForTheTables(t *testing.T) {
	for rows, goesOn := range map[int]bool{maxLate: true, maxLate + 1: false} {
		w := &Writer{rows: late(rows, time.Now()), waiting: []waiter{{}}}
		require.Equal(t, goesOn, len(w.told()) == 1, "%d rows", rows)
		require.Equal(t, goesOn, w.idle(false), "%d rows", rows)
		w.closing = true
		require.Equal(t, !goesOn, len(w.told()) == 1, "%d rows: the end waits for nothing but the end", rows)
	}
}
