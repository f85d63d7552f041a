package tables

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// A row can be changed where it is only while nobody else looks at it.
func TestRestingRows(t *testing.T) {
	u, now, key := NewUnderway(), time.Now(), RowKey{ID: 7, Of: JobRow}
	require.Nil(t, u.Resting(key), "there is none")
	first := &Record{}
	u.Add(u.Row(key), first)
	require.Nil(t, u.Resting(key), "it is urgent")
	taken := u.Take(10)
	require.Nil(t, u.Resting(key), "it is being made durable")
	u.InJournal(taken, 1, now)
	require.Same(t, first, u.Resting(key))
	second := &Record{}
	u.Add(u.Row(key), second)
	require.Nil(t, u.Resting(key), "it is urgent again")
	u.InJournal(u.Take(10), 2, now)
	require.Same(t, second, u.Resting(key))
	u.Groups[1].Members(nil)
	require.Nil(t, u.Resting(key), "it is being written")
}

// Rows that belong together go into one commit, also where it would be full before the last.
func TestTogetherIsNotCut(t *testing.T) {
	u := NewUnderway()
	for i := range 10 {
		r := u.Row(RowKey{Of: MemberRow, ID: 1, Sub: int32(i)})
		u.Add(r, &Record{Statement: PutMember})
		r.With = i > 3 // from the fifth on all belong to the one before
	}
	require.Len(t, u.Take(3), 3)
	require.Len(t, u.Take(2), 7)
	require.Empty(t, u.Take(2))
}
