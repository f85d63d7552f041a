package dispatch

import (
	"fmt"
	"testing"
	"time"
)

// BenchmarkNext is one job through the queue, with so many others in it.
func BenchmarkNext(b *testing.B) {
	for _, n := range []int{100, 20_000} {
		b.Run(fmt.Sprintf("queued=%d", n), func(b *testing.B) {
			m := New(2)
			m.SetRule(Rule{Name: "slips", Order: ByArrival})
			now := time.Date(2031, 4, 2, 12, 0, 0, 0, time.UTC)
			for i := range n {
				m.Add(Job{ID: int64(i), Rule: "slips"})
			}
			id := int64(n)
			b.ReportAllocs()
			for b.Loop() {
				m.Add(Job{ID: id, Rule: "slips"})
				id++
				next, ok := m.Next(now)
				if !ok {
					b.Fatal("nothing is free")
				}
				m.Done(next.ID)
				m.Remove(next.ID)
			}
		})
	}
}
