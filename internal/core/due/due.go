// Package due keeps things in the order in which they come due, so that very many that wait cost
// nothing until then.
package due

import (
	"container/heap"
	"time"
)

// Longest is how long anything sleeps over what comes due later: timers stand still while the machine sleeps,
// and do not notice that its clock is set.
const Longest = time.Minute

// In is how long to sleep over what comes due at a time, Longest at most.
func In(at, now time.Time) time.Duration { return min(max(at.Sub(now), 0), Longest) }

// Queue has each of its keys come due at a time; of those that come due at the same time the one
// that was set first comes first. The zero value is ready to use.
type Queue[K comparable] struct {
	items  map[K]*item[K]
	order  order[K]
	number int
}

type item[K comparable] struct {
	key    K
	at     time.Time
	number int // in the order in which they were set
	slot   int // its place in the heap
}

// Set has a key come due at a time, instead of any that was set before.
func (q *Queue[K]) Set(key K, at time.Time) {
	if q.items == nil {
		q.items = map[K]*item[K]{}
	}
	q.number++
	it := q.items[key]
	if it == nil {
		it = &item[K]{key: key, at: at, number: q.number}
		q.items[key] = it
		heap.Push(&q.order, it)
		return
	}
	it.at, it.number = at, q.number
	heap.Fix(&q.order, it.slot)
}

// Remove takes a key out.
func (q *Queue[K]) Remove(key K) {
	if it := q.items[key]; it != nil {
		heap.Remove(&q.order, it.slot)
		delete(q.items, key)
	}
}

// Has reports whether a key is waited for.
func (q *Queue[K]) Has(key K) bool { return q.items[key] != nil }

// Len is the number of keys.
func (q *Queue[K]) Len() int { return len(q.order) }

// Next is when the first key comes due; ok is false if there is none.
func (q *Queue[K]) Next() (at time.Time, ok bool) {
	if len(q.order) == 0 {
		return time.Time{}, false
	}
	return q.order[0].at, true
}

// Pop takes out the first key that is due by now; ok is false if none is.
func (q *Queue[K]) Pop(now time.Time) (key K, ok bool) {
	if len(q.order) == 0 || q.order[0].at.After(now) {
		return key, false
	}
	it := heap.Pop(&q.order).(*item[K])
	delete(q.items, it.key)
	return it.key, true
}

// order is the heap.
type order[K comparable] []*item[K]

func (o order[K]) Len() int { return len(o) }

func (o order[K]) Less(i, j int) bool {
	if !o[i].at.Equal(o[j].at) {
		return o[i].at.Before(o[j].at)
	}
	return o[i].number < o[j].number
}

func (o order[K]) Swap(i, j int) {
	o[i], o[j] = o[j], o[i]
	o[i].slot, o[j].slot = i, j
}

func (o *order[K]) Push(x any) {
	it := x.(*item[K])
	it.slot = len(*o)
	*o = append(*o, it)
}

func (o *order[K]) Pop() any {
	old := *o
	it := old[len(old)-1]
	old[len(old)-1] = nil
	*o = old[:len(old)-1]
	return it
}
