package engine

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"stilltide/internal/core/file"
	"stilltide/internal/core/flow"
	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/underway"
	"stilltide/internal/ledger"
	"stilltide/internal/watchfs"
	"stilltide/internal/work"
)

// newStore is a ledger for tests of the flow: the real one, which writes when it is asked to.
func newStore(t *testing.T) *ledger.Stepped {
	l, err := ledger.OpenStepped(t.TempDir())
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, l.Crash(nil)) })
	return l
}

// checkedStore is the ledger of the simulation. It allows a job no step that the table of states
// does not know.
type checkedStore struct {
	*ledger.Stepped
	full bool // no commit succeeds
}

// refuse has the disk be full, or no longer.
func (s *checkedStore) refuse(t *testing.T, full bool) {
	if err := s.Refuse(full); err != nil {
		t.Fatal(err)
	}
	s.full = full
}

func allowed(was job.State, j *job.Job) {
	if !job.Allowed(was, j.State) {
		panic(fmt.Sprintf("job %d went from %q to %q, which no table knows: %s", j.ID, was, j.State, j.Reason))
	}
}

func (s *checkedStore) Record(j job.Job, was job.State) {
	allowed(was, &j)
	s.Stepped.Record(j, was)
}

func (s *checkedStore) RecordEnd(j *job.Job, was job.State) {
	allowed(was, j)
	s.Stepped.RecordEnd(j, was)
}

// answer carries out what a flow has asked for, and brings the answers.
func answer(f *flow.Flow, s store, now time.Time) {
	for len(f.Effects().Reads) > 0 {
		reads := f.Effects().Reads
		f.Effects().Reads = nil
		for _, r := range reads {
			r.Do(source{s, f.Rules(), func() {}})(now)
		}
		f.Advance(now)
	}
}

// newFlow makes a flow that sees with a function.
func newFlow(set *plan.Set, m underway.Memory, look func(string) (file.Facts, error)) *flow.Flow {
	return flow.New(set, m, &eyes{look: func(_ *watchfs.Looker, path string) (file.Facts,
		error) {
		return look(path)
	}}, &work.InHand{}, rand.Float64)
}
