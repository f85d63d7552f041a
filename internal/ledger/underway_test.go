package ledger

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// late returns an underway with so many late rows.
func late(n int, now time.Time) underway {
	u := newUnderway()
	for i := range n {
		u.addLate(u.row(rowKey{id: int64(i)}), &record{}, now)
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
		w := &writer{rows: late(c.rows, now.Add(-c.age)), burst: lateAfterBurst, busy: now}
		n, wait := w.due(now, false, c.waited)
		require.Equal(t, c.most, n, c.what)
		require.Positive(t, wait, c.what)
	}
}

// A wait for a commit ends only when few enough rows are under way: so the memory does not grow
// with a burst, as the commits of the journal would let it.
func TestABurstWaitsForTheTables(t *testing.T) {
	for rows, goesOn := range map[int]bool{maxLate: true, maxLate + 1: false} {
		w := &writer{rows: late(rows, time.Now()), waiting: []waiter{{}}}
		require.Equal(t, goesOn, len(w.told()) == 1, "%d rows", rows)
		require.Equal(t, goesOn, w.idle(false), "%d rows", rows)
		w.closing = true
		require.Equal(t, !goesOn, len(w.told()) == 1, "%d rows: the end waits for nothing but the end", rows)
	}
}

// A row can be changed where it is only while nobody else looks at it.
func TestRestingRows(t *testing.T) {
	u, now, key := newUnderway(), time.Now(), rowKey{id: 7, of: jobRow}
	require.Nil(t, u.resting(key), "there is none")
	first := &record{}
	u.add(u.row(key), first)
	require.Nil(t, u.resting(key), "it is urgent")
	taken := u.take(10)
	require.Nil(t, u.resting(key), "it is being made durable")
	u.inJournal(taken, 1, now)
	require.Same(t, first, u.resting(key))
	second := &record{}
	u.add(u.row(key), second)
	require.Nil(t, u.resting(key), "it is urgent again")
	u.inJournal(u.take(10), 2, now)
	require.Same(t, second, u.resting(key))
	u.groups[1].members(nil)
	require.Nil(t, u.resting(key), "it is being written")
}

// Rows that belong together go into one commit, also where it would be full before the last.
func TestTogetherIsNotCut(t *testing.T) {
	u := newUnderway()
	for i := range 10 {
		r := u.row(rowKey{of: memberRow, id: 1, sub: int32(i)})
		u.add(r, &record{statement: putMember})
		r.with = i > 3 // from the fifth on all belong to the one before
	}
	require.Len(t, u.take(3), 3)
	require.Len(t, u.take(2), 7)
	require.Empty(t, u.take(2))
}
