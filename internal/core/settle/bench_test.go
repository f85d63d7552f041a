package settle

import (
	"strconv"
	"testing"
	"time"

	"stilltide/internal/core/file"
)

// BenchmarkSettle is one file from its events to ready, among ten thousand that wait.
func BenchmarkSettle(b *testing.B) {
	var m Machine
	now := time.Date(2031, 4, 2, 12, 0, 0, 0, time.UTC)
	for i := range 10_000 {
		m.Event("/waits/"+strconv.Itoa(i), Closed, Policy{Debounce: time.Hour}, now)
	}
	for _, path := range m.Asks(now) {
		m.Answer(path, file.Facts{Exists: true, Regular: true, Mod: file.At(now), Change: file.At(now),
			Writers: file.None}, now)
	}
	facts := file.Facts{Exists: true, Regular: true, Size: 3, Mod: file.At(now), Change: file.At(now),
		Writers: file.None}
	b.ReportAllocs()
	for b.Loop() {
		m.Event("/in/a.csv", Created, Policy{}, now)
		m.Event("/in/a.csv", Closed, Policy{}, now)
		for _, path := range m.Asks(now) {
			if d := m.Answer(path, facts, now); d.Verdict != Ready {
				b.Fatal(d.Why)
			}
		}
	}
}
