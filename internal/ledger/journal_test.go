package ledger

import (
	"context"
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/machine"
	"stilltide/internal/tables"
)

// openAny opens a ledger whose troubles are expected.
func openAny(t *testing.T, folder string) *Ledger {
	t.Helper()
	quiet = time.Second // so that a slow machine does not empty the journal in between
	defer func() { quiet = 0 }()
	l, err := Open(folder, func(error) {})
	require.NoError(t, err)
	return l
}

// crash ends a ledger as a crash does: what is not in the file is lost.
func crash(t *testing.T, l *Ledger) {
	t.Helper()
	require.NoError(t, l.w.Abandon())
	require.NoError(t, l.db.Close())
	l.lock.Release()
}

func parts(t *testing.T, l *Ledger) (n int) {
	t.Helper()
	require.NoError(t, l.db.QueryRow(`SELECT count(*) FROM journal`).Scan(&n))
	return n
}

// burst records jobs and intended placements, and waits until they are durable.
func burst(t *testing.T, l *Ledger, n int) []job.Job {
	t.Helper()
	var jobs []job.Job
	for range n {
		id := l.NextID()
		j := job.Job{ID: id, Rule: "r", File: fmt.Sprintf("/in/%d", id), Watch: "/in", State: job.Running,
			Event: file.Added, Attempts: 1, Taken: when, FileNow: "/in/x"}
		l.Record(j, "")
		l.RecordPlacement(job.Placement{ID: l.NextPlacement(), Job: id, Kind: "moved", Source: j.File, Target: "/out/" +
			fmt.Sprint(id), Chained: true, State: job.Intended, FinalState: job.Processed})
		jobs = append(jobs, j)
	}
	require.NoError(t, l.Sync(context.Background()))
	return jobs
}

func TestABurstIsDurableInTheJournal(t *testing.T) {
	folder := t.TempDir()
	l := openAny(t, folder)
	jobs := burst(t, l, 2*tables.GroupRows)
	require.Positive(t, parts(t, l), "it went to the journal")
	for _, j := range jobs[:10] { // these ends are late, and lost
		j.State, j.Ended = job.Processed, when
		l.RecordPlaced(&job.Placement{ID: j.ID, Job: j.ID, Kind: "moved", Source: j.File, Target: "/out/x",
			FinalState: job.Processed}, file.Facts{})
		l.RecordEnd(&j, job.Running)
	}
	crash(t, l)

	read, err := Read(folder) // who reads finds everything, too
	require.NoError(t, err)
	list, err := read.Jobs(job.Filter{})
	require.NoError(t, err)
	require.Len(t, list, len(jobs))
	require.Zero(t, parts(t, read))
	require.NoError(t, read.Close())

	l = openAny(t, folder)
	defer l.Close()
	tally, err := l.Tally()
	require.NoError(t, err)
	require.Equal(t, map[string]map[job.State]int{"r": {job.Running: len(jobs)}}, tally)
	placed, err := l.Placements(jobs[3].ID)
	require.NoError(t, err)
	require.Len(t, placed, 1)
	require.Equal(t, job.Intended, placed[0].State)
	require.Equal(t, jobs[len(jobs)-1].ID+1, l.NextID(), "no number comes twice")
	require.Equal(t, int64(len(jobs)+1), l.NextPlacement())
}

// What the memory cannot answer is answered from tables that are up to date.
func TestQueriesSeeWhatTheJournalHolds(t *testing.T) {
	l := openAny(t, t.TempDir())
	defer l.Close()
	jobs := burst(t, l, 100)
	open, found, err := l.OpenJob(jobs[5].File)
	require.NoError(t, err)
	require.True(t, found)
	require.Equal(t, jobs[5].ID, open.ID)
	require.Positive(t, parts(t, l), "this needed no table")

	rule, _, ok, err := l.Origin("/out/100", file.Facts{Size: 5})
	require.NoError(t, err)
	require.False(t, ok, "other facts: %s", rule)
	require.Zero(t, parts(t, l))
	rule, _, ok, err = l.Origin("/out/100", file.Facts{})
	require.NoError(t, err)
	require.True(t, ok)
	require.Equal(t, "r", rule)

	more := burst(t, l, 100)
	list, err := l.OpenJobs("r", []job.State{job.Running}, more[0].ID-1, 0)
	require.NoError(t, err)
	require.Len(t, list, 100)
}

func TestTheJournalIsEmptiedAtLeisure(t *testing.T) {
	l := open(t, t.TempDir())
	defer l.Close()
	burst(t, l, 1000)
	require.Eventually(t, func() bool { return parts(t, l) == 0 }, 10*time.Second, 10*time.Millisecond)
	var n int
	require.NoError(t, l.db.QueryRow(`SELECT count(*) FROM job`).Scan(&n))
	require.Equal(t, 1000, n)
}

func TestADamagedJournalIsLeftAlone(t *testing.T) {
	folder := t.TempDir()
	require.NoError(t, openAny(t, folder).Close())
	require.NoError(t, execSQL(filepath.Join(folder, FileName),
		`INSERT INTO journal VALUES (1, '{"0":"DELETE FROM job"}', x'0001')`))
	for range 2 {
		_, err := Open(folder, func(error) {})
		require.ErrorContains(t, err, "a part of its journal is damaged")
		require.ErrorContains(t, err, "left as it is")
	}
}

func FuzzPart(f *testing.F) {
	_, rows, err := tables.EncodePart(nil, []tables.Written{{Record: &tables.Record{Job: &job.Job{ID: 1,
		File: "/in/a"}}}})
	require.NoError(f, err)
	f.Add(rows)
	f.Add([]byte{0, 1, 2, 255, 255, 255, 255, 255, 255, 255, 255, 255, 1})
	f.Fuzz(func(t *testing.T, rows []byte) {
		left := tables.PartReader{Left: rows}
		for len(left.Left) > 0 {
			if _, _, err := left.Next(); err != nil {
				require.ErrorIs(t, err, tables.ErrPart)
				return
			}
		}
	})
}

// model is what the ledger must hold: for each job the state that is durable
// at least, and all states that came later.
type model struct {
	sure map[int64]job.State
	may  map[int64][]job.State
	last map[int64]job.Job

	tried int // rows with an attempt that were compared
}

func (m *model) record(j job.Job) {
	m.last[j.ID] = j
	m.may[j.ID] = append(m.may[j.ID], j.State)
}

// synced notes that what was urgent is durable; urgent counts, by job, the states up to that one. A
// later one that may be late may have become durable with it, even where an earlier state comes
// again after that.
func (m *model) synced(urgent map[int64]int) {
	for id, n := range urgent {
		m.sure[id], m.may[id] = m.may[id][n-1], m.may[id][n:]
	}
}

// check compares a ledger that was opened after a crash.
func (m *model) check(t *testing.T, l *Ledger) {
	t.Helper()
	list, err := l.Jobs(job.Filter{})
	require.NoError(t, err)
	have, count := map[int64]job.Job{}, map[job.State]int{}
	for _, j := range list {
		have[j.ID] = j
		count[j.State]++
		if j.Last != nil {
			require.Equal(t, string(j.State), j.Last.Reason, "the attempt in the row is that of its state")
			m.tried++
		}
	}
	for id, sure := range m.sure {
		require.Contains(t, append([]job.State{sure}, m.may[id]...), have[id].State, "job %d", id)
	}
	tally, err := l.Tally()
	require.NoError(t, err)
	for _, s := range job.States {
		require.Equal(t, count[s], tally["r"][s], "jobs that are %s", s)
	}
	m.last, m.sure, m.may = have, map[int64]job.State{}, map[int64][]job.State{}
	for id, j := range have {
		m.sure[id] = j.State
	}
}

// Whatever is recorded, made durable and lost in whatever order: a crash loses
// nothing that was durable, and brings nothing back that was out of date.
func TestCrashesAtRandom(t *testing.T) {
	t.Parallel()
	for seed := range uint64(machine.Worlds(8)) {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			chance := rand.New(rand.NewPCG(seed, 1))
			folder := t.TempDir()
			l := openAny(t, folder)
			m := &model{sure: map[int64]job.State{}, may: map[int64][]job.State{}, last: map[int64]job.Job{}}
			urgent := map[int64]int{}
			for range 40 {
				step(t, l, m, urgent, chance)
				if chance.IntN(8) > 0 {
					continue
				}
				crash(t, l)
				l = openAny(t, folder)
				m.check(t, l)
				clear(urgent)
			}
			require.NoError(t, l.Close())
			l = openAny(t, folder)
			for id, j := range m.last {
				m.sure[id], m.may[id] = j.State, nil // an orderly end loses nothing
			}
			m.check(t, l)
			require.Positive(t, m.tried)
			require.NoError(t, l.Close())
		})
	}
}

// step records some jobs anew or again, and perhaps waits.
func step(t *testing.T, l *Ledger, m *model, urgent map[int64]int, chance *rand.Rand) {
	t.Helper()
	for range 1 + chance.IntN(120) {
		ids := int64(300)
		if chance.IntN(2) == 0 {
			ids = 12 // the same ones again and again
		}
		if chance.IntN(40) == 0 {
			time.Sleep(time.Millisecond) // a commit may come amid them
		}
		j, known := m.last[1+chance.Int64N(ids)]
		was := j.State
		if !known {
			j, was = sample(l.NextID(), job.Queued), ""
			j.File = fmt.Sprint("/in/", j.ID)
		}
		j.State = job.States[chance.IntN(len(job.States))]
		if known && (j.Last != nil || chance.IntN(2) == 0) { // once there is one, there always is
			j.Last = &job.Attempt{Job: j.ID, Number: 1, Reason: string(j.State)}
		}
		switch {
		case known && chance.IntN(2) == 0:
			l.RecordEnd(&j, was)
		case !known && chance.IntN(2) == 0:
			l.RecordTaken(j)
		default:
			l.Record(j, was)
			urgent[j.ID] = len(m.may[j.ID]) + 1
		}
		m.record(j)
	}
	switch chance.IntN(5) {
	case 0, 1, 2:
		require.NoError(t, l.Sync(context.Background()))
		m.synced(urgent)
		clear(urgent)
	case 3:
		require.NoError(t, l.Flush())
		for id, j := range m.last {
			m.sure[id], m.may[id] = j.State, nil
		}
		clear(urgent)
	default:
		time.Sleep(time.Duration(chance.IntN(8)) * time.Millisecond) // late rows come due, or not
	}
}

// A job and its further files become durable together: ended by force at any instant, a job that
// is there has them all. (The writer may begin as soon as it knows of the first row.)
func TestAJobIsNeverWithoutItsMembers(t *testing.T) {
	folder := t.TempDir()
	var last job.Job
	for range machine.Worlds(30) {
		l := openAny(t, folder)
		id := l.NextID()
		last = job.Job{ID: id, Rule: "r", File: fmt.Sprintf("/in/%d", id), Watch: "/in", State: job.Queued,
			Event: file.Added,
			Taken: when, FileNow: "/in/x"}
		for i := range 40 {
			last.Extra = append(last.Extra, job.Member{File: fmt.Sprintf("/in/%d-%d", id, i), FileNow: "/in/y"})
		}
		l.Record(last, "")
		require.Eventually(t, func() bool { // the first of its rows are durable
			var n int
			require.NoError(t, l.db.QueryRow(`SELECT count(*) FROM job WHERE id = ?`, id).Scan(&n))
			return n+parts(t, l) > 0
		}, 10*time.Second, time.Microsecond)
		crash(t, l)
		l = openAny(t, folder)
		list, err := l.Jobs(job.Filter{ID: id})
		require.NoError(t, err)
		require.Len(t, list, 1)
		require.Len(t, list[0].Extra, len(last.Extra), "job %d", id)
		require.NoError(t, l.Close())
	}
}
