package place

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/machine"
	"stilltide/internal/watchfs"
)

// BenchmarkMove is one file moved within a file system, as part of a batch: one
// that is held meanwhile, and one that nothing else was done with.
func BenchmarkMove(b *testing.B) {
	b.Run("held", func(b *testing.B) { benchmarkMove(b, false) })
	b.Run("untouched", func(b *testing.B) { benchmarkMove(b, true) })
}

func benchmarkMove(b *testing.B, untouched bool) {
	folder := machine.Memory(b)
	in, out := filepath.Join(folder, "in"), filepath.Join(folder, "out")
	if err := os.Mkdir(in, 0o777); err != nil {
		b.Fatal(err)
	}
	var requests []Request
	for i := range b.N {
		path := filepath.Join(in, fmt.Sprintf("gauge-%d.csv", i))
		if err := os.WriteFile(path, []byte("1"), 0o666); err != nil {
			b.Fatal(err)
		}
		facts, err := watchfs.Stat(path)
		if err != nil {
			b.Fatal(err)
		}
		requests = append(requests, Request{Source: path, To: plan.SpotOf(filepath.Join(out, filepath.Base(path))),
			Expect: facts, Same: rule.SameNumber, Ledger: folder, Job: int64(i), Untouched: untouched})
	}
	b.ReportAllocs()
	b.ResetTimer()
	placer := (&Placer{}).Batch()
	defer placer.End()
	for _, r := range requests {
		if _, err := placer.Move(r); err != nil {
			b.Fatal(err)
		}
	}
}
