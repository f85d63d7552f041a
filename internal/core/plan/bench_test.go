package plan

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"stilltide/internal/core/file"
)

// BenchmarkCandidates asks which rules could take a file, with one rule in
// its folder, and with three hundred rules on other folders beside it.
func BenchmarkCandidates(b *testing.B) {
	for _, n := range []int{1, 300} {
		b.Run(fmt.Sprintf("rules=%d", n), func(b *testing.B) {
			var text strings.Builder
			for i := range n {
				fmt.Fprintf(&text, "  - {name: r%d, watch: in%d, match: \"gauge-<station>_<day>.csv\", "+
					"processed: \"done/{station}\"}\n", i, i)
			}
			s := rules(b, text.String())
			b.ReportAllocs()
			for b.Loop() {
				if len(s.Candidates("/office/in0/gauge-NOR_2031-04-02.csv")) != 1 {
					b.Fatal("one rule takes it")
				}
			}
		})
	}
}

// BenchmarkDestination fills the place where a file goes.
func BenchmarkDestination(b *testing.B) {
	s := rules(b, `  - {name: gauges, watch: in, match: "gauge-<station>_<day>.csv", processed: "done/{station}/{day:%Y}/{modified:%m}"}`+"\n")
	c := s.Candidates("/office/in/gauge-NOR_2031-04-02.csv")[0]
	at := time.Date(2031, 4, 2, 12, 0, 0, 0, time.UTC)
	j := Job{Rule: c.Rule, ID: 1, File: c.Unit, Watch: c.Watch, Facts: file.Facts{Exists: true, Regular: true,
		Size: 10, Mod: file.At(at)}, Captures: c.Captures, Now: at}
	b.ReportAllocs()
	for b.Loop() {
		if _, err := j.Destination(c.Rule.Processed); err != nil {
			b.Fatal(err)
		}
	}
}
