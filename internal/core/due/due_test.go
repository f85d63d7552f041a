package due

import (
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// Whatever is set, set again and removed: the queue gives what a plain list in order would.
func TestQueueIsAListInOrder(t *testing.T) {
	type entry struct {
		key    int
		at     time.Time
		number int
	}
	rapid.Check(t, func(t *rapid.T) {
		var q Queue[int]
		var list []entry
		without := func(key int) { list = slices.DeleteFunc(list, func(e entry) bool { return e.key == key }) }
		begin := time.Date(2031, 4, 2, 0, 0, 0, 0, time.UTC)
		for n := range rapid.IntRange(1, 60).Draw(t, "steps") {
			key := rapid.IntRange(0, 7).Draw(t, "key")
			at := begin.Add(time.Duration(rapid.IntRange(0, 5).Draw(t, "at")) * time.Second)
			switch rapid.IntRange(0, 4).Draw(t, "do") {
			case 0:
				q.Remove(key)
				without(key)
			case 1:
				slices.SortFunc(list, func(a, b entry) int {
					if c := a.at.Compare(b.at); c != 0 {
						return c
					}
					return a.number - b.number
				})
				got, ok := q.Pop(at)
				require.Equal(t, len(list) > 0 && !list[0].at.After(at), ok)
				if ok {
					require.Equal(t, list[0].key, got)
					without(got)
				}
			default:
				q.Set(key, at)
				without(key)
				list = append(list, entry{key, at, n})
			}
			require.Equal(t, len(list), q.Len())
			next, some := q.Next()
			require.Equal(t, len(list) > 0, some)
			for _, e := range list {
				require.False(t, e.at.Before(next))
			}
		}
	})
}

func TestNothingSleepsForLong(t *testing.T) {
	now := time.Date(2031, 4, 2, 0, 0, 0, 0, time.UTC)
	require.Zero(t, In(now.Add(-time.Hour), now))
	require.Equal(t, 2*time.Second, In(now.Add(2*time.Second), now))
	require.Equal(t, Longest, In(now.Add(9*time.Hour), now))
}
