package ledger

import (
	"context"
	"fmt"
	"testing"
	"time"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/machine"
)

// BenchmarkMove is what the ledger does for one file that is only moved, in
// batches as a burst makes them: the intention durable, then the end.
func BenchmarkMove(b *testing.B) {
	folder := machine.Memory(b)
	l, err := Open(folder, func(err error) { b.Error(err) })
	if err != nil {
		b.Fatal(err)
	}
	defer l.Close()
	b.ReportAllocs()
	const batch = 200
	now := time.Now()
	for done := 0; done < b.N; done += batch {
		var jobs []job.Job
		for i := range batch {
			f := file.Facts{Exists: true, Regular: true, Size: 16, Mod: file.At(now), Change: file.At(now), Dev: 5,
				Ino: uint64(done + i)}
			j := job.Job{ID: l.NextID(), Rule: "move", File: fmt.Sprintf("/dev/shm/tide-bench/move/in/gauge-%d.csv",
				done+i), Watch: "/dev/shm/tide-bench/move/in", State: job.Running, Event: file.Added, Facts: f,
				Taken: now, Started: now, Attempts: 1}
			l.Record(j, "")
			l.RecordIntention(&job.Placement{ID: l.NextPlacement(), Job: j.ID, Attempt: 1, Kind: "moved",
				Source: j.File, Target: fmt.Sprintf("/dev/shm/tide-bench/move/out/gauge-%d.csv", done+i), Facts: f,
				After: f, State: job.Intended, FinalState: job.Processed})
			jobs = append(jobs, j)
		}
		if err := l.Sync(context.Background()); err != nil {
			b.Fatal(err)
		}
		for _, j := range jobs {
			was := j.State
			j.State, j.Ended, j.FileNow = job.Processed, now, j.File
			l.RecordPlaced(&job.Placement{ID: j.ID, Job: j.ID, Attempt: 1, Kind: "moved", Source: j.File,
				Target: fmt.Sprintf("/dev/shm/tide-bench/move/out/gauge-%d.csv", j.ID), Facts: j.Facts,
				FinalState: job.Processed}, j.Facts)
			l.RecordEnd(&j, was)
		}
	}
	if err := l.Flush(); err != nil {
		b.Fatal(err)
	}
}
