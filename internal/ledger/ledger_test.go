package ledger

import (
	"bytes"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/lock"
	"stilltide/internal/tables"
)

func open(t *testing.T, dir string) *Ledger {
	t.Helper()
	l, err := Open(dir, func(err error) { require.NoError(t, err) })
	require.NoError(t, err)
	return l
}

var when = time.Date(2031, 4, 2, 10, 0, 0, 123, time.UTC)

func sample(id int64, state job.State) job.Job {
	exit := 3
	return job.Job{ID: id, Rule: "r", File: "/in/a\xff.csv", Watch: "/in", State: state, Event: file.Added,
		Facts:    file.Facts{Exists: true, Regular: true, Size: 10, Mod: file.At(when), Dev: 1 << 63, Ino: 7},
		Attempts: 2, Taken: when, Exit: &exit, Reason: "why", FileNow: "/failed/a"}
}

func TestRowsComeBackAsTheyWere(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "state")
	l := open(t, dir)
	require.Equal(t, int64(1), l.NextID())
	j := sample(1, job.Queued)
	l.Record(j, "")
	l.RecordAttempt(job.Attempt{Job: 1, Number: 1, Started: when, Ended: when.Add(time.Second), Exit: j.Exit, CPU: 5,
		Memory: 6, Output: "o"})
	j.State, j.Ended = job.Failed, when.Add(time.Second)
	j.Last = &job.Attempt{Job: 1, Number: 2, Started: when.Add(time.Minute), Reason: "it said so", Memory: 7}
	l.Record(j, job.Queued)
	p := job.Placement{ID: l.NextPlacement(), Job: 1, Source: "/in/a", Target: "/out/a", Facts: j.Facts,
		State:      job.Done,
		FinalState: job.Failed}
	l.RecordPlacement(p)
	require.NoError(t, l.Close())

	l = open(t, dir)
	defer l.Close()
	jobs, err := l.Jobs(job.Filter{File: "a\xff"})
	require.NoError(t, err)
	require.Len(t, jobs, 1)
	require.Equal(t, j.File, jobs[0].File, "a name that is not UTF-8")
	require.True(t, jobs[0].Facts.Same(j.Facts))
	require.Equal(t, 3, *jobs[0].Exit)
	require.True(t, jobs[0].Ended.Equal(j.Ended))
	require.Equal(t, int64(2), l.NextID())
	attempts, err := l.Attempts(1)
	require.NoError(t, err)
	require.Len(t, attempts, 2, "one has a row of its own, the newest is in the job's")
	require.Equal(t, time.Second, attempts[0].Ended.Sub(attempts[0].Started))
	require.True(t, when.Add(time.Minute).Equal(attempts[1].Started))
	require.Equal(t, &attempts[1], jobs[0].Last)
	require.Equal(t, job.Attempt{Job: 1, Number: 2, Started: attempts[1].Started, Reason: "it said so", Memory: 7},
		attempts[1])
	placements, err := l.Placements(1)
	require.NoError(t, err)
	require.Equal(t, p.Target, placements[0].Target)
	require.Equal(t, job.Failed, placements[0].FinalState)
	tally, err := l.Tally()
	require.NoError(t, err)
	require.Equal(t, 1, tally["r"][job.Failed])
	require.Equal(t, 0, tally["r"][job.Queued])
}

func TestFilters(t *testing.T) {
	l := open(t, t.TempDir())
	defer l.Close()
	for i := int64(1); i <= 5; i++ {
		j := sample(i, job.Queued)
		if i%2 == 0 {
			j.State, j.Rule, j.Ended = job.Processed, "s", when
		}
		l.Record(j, "")
	}
	require.NoError(t, l.Sync(context.Background()))
	count := func(f job.Filter) (ids []int64) {
		jobs, err := l.Jobs(f)
		require.NoError(t, err)
		for _, j := range jobs {
			ids = append(ids, j.ID)
		}
		return ids
	}
	require.Equal(t, []int64{5, 4, 3, 2, 1}, count(job.Filter{}))
	open, err := l.OpenJobs("", []job.State{job.Queued, job.Running, job.Retrying, job.Settling, job.Held}, 0, 0)
	require.NoError(t, err)
	var ids []int64
	for _, j := range open {
		ids = append(ids, j.ID)
	}
	require.Equal(t, []int64{1, 3, 5}, ids)
	open, err = l.OpenJobs("r", []job.State{job.Queued, job.Running, job.Retrying, job.Settling, job.Held}, 1, 1)
	require.NoError(t, err)
	require.Len(t, open, 1, "behind a number, at most so many")
	require.Equal(t, int64(3), open[0].ID)
	require.Equal(t, []int64{4, 2}, count(job.Filter{Rule: "s"}))
	require.Equal(t, []int64{5, 3}, count(job.Filter{States: []job.State{job.Queued, job.Failed}, Limit: 2}))
	require.Equal(t, []int64{4}, count(job.Filter{ID: 4}))
	require.Equal(t, []int64{5, 4}, count(job.Filter{After: 3}))
	require.Empty(t, count(job.Filter{Since: when.Add(time.Hour)}))
	last, ok, err := l.LastEnded("s")
	require.NoError(t, err)
	require.True(t, ok)
	require.Equal(t, int64(4), last.ID)
}

func TestKnownIsSeenAtOnceAndLater(t *testing.T) {
	dir := t.TempDir()
	l := open(t, dir)
	check := func(want bool) {
		k, ok, err := l.Known("r", "/in/a")
		require.NoError(t, err)
		require.Equal(t, want, ok)
		if ok {
			require.Equal(t, "h", k.Hash)
			require.Equal(t, file.At(when), k.Facts.Mod)
		}
	}
	check(false)
	require.False(t, l.KnowsFiles())
	k := job.Known{Rule: "r", File: "/in/a", Hash: "h", Job: 1, Facts: file.Facts{Exists: true, Mod: file.At(when)}}
	l.Remember(k)
	check(true) // not in the file yet, perhaps
	require.True(t, l.KnowsFiles())
	require.NoError(t, l.Sync(context.Background()))
	check(true)
	l.Forget("r", "/in/a")
	check(false)
	l.Remember(k)
	require.NoError(t, l.Close())
	l = open(t, dir)
	defer l.Close()
	check(true)
	require.True(t, l.KnowsFiles(), "removals are noticed after a restart, too")
}

// A job is found by its file at once, before it is in the file, and not any
// more when it is over.
// What is on its way to the table and what is in it are told together, and asking
// has nothing written: in a burst that would be every row of it.
func TestKnownFilesOfTableAndMemory(t *testing.T) {
	l, err := OpenStepped(t.TempDir()) // nothing is written until somebody waits for it
	require.NoError(t, err)
	defer l.Close()
	known := func(rule, path string) job.Known {
		return job.Known{Rule: rule, File: path, Facts: file.Facts{Exists: true, Regular: true}}
	}
	for _, path := range []string{"/in/gone", "/in/b", "/in/again"} {
		l.Remember(known("r", path))
	}
	require.NoError(t, l.Flush())
	l.Forget("r", "/in/gone")
	l.Forget("r", "/in/again")
	for _, k := range []job.Known{known("r", "/in/a"), known("r", "/in/again"), known("r", "/input"),
		known("other", "/in/o")} {
		l.Remember(k)
	}
	files, _, err := l.KnownFiles("r", "/in", "")
	require.NoError(t, err)
	require.Equal(t, []string{"/in/a", "/in/again", "/in/b"}, files)
	require.Equal(t, 5, l.Behind(), "nothing was written")
	require.NoError(t, l.Flush())
	files, _, err = l.KnownFiles("r", "/in", "")
	require.NoError(t, err)
	require.Equal(t, []string{"/in/a", "/in/again", "/in/b"}, files)
}

func TestOpenJobIsSeenAtOnce(t *testing.T) {
	l := open(t, t.TempDir())
	defer l.Close()
	for round := range 3 {
		j := sample(int64(round+1), job.Queued)
		l.Record(j, "")
		got, ok, err := l.OpenJob(j.File)
		require.NoError(t, err)
		require.True(t, ok)
		require.Equal(t, j.ID, got.ID)
		if round == 1 {
			require.NoError(t, l.Flush())
			_, ok, err = l.OpenJob(j.File)
			require.NoError(t, err)
			require.True(t, ok, "and afterwards, from the file")
		}
		j.State, j.Ended = job.Processed, when
		l.Record(j, job.Queued)
		_, ok, err = l.OpenJob(j.File)
		require.NoError(t, err)
		require.False(t, ok)
	}
}

func TestManyWritersShareCommits(t *testing.T) {
	l := open(t, t.TempDir())
	defer l.Close()
	var wg sync.WaitGroup
	for i := range int64(200) {
		wg.Go(func() {
			l.Record(sample(i+1, job.Queued), "")
			if err := l.Sync(context.Background()); err != nil {
				t.Error(err)
			}
		})
	}
	wg.Wait()
	jobs, err := l.Jobs(job.Filter{})
	require.NoError(t, err)
	require.Len(t, jobs, 200, "all durable when Sync returns")
}

func TestOneHolderAndReadersBeside(t *testing.T) {
	dir := t.TempDir()
	require.False(t, lock.InUse(dir))
	_, err := Read(dir)
	require.ErrorIs(t, err, ErrNone)
	l := open(t, dir)
	require.True(t, lock.InUse(dir))
	_, err = Open(dir, nil)
	require.ErrorIs(t, err, ErrBusy)
	l.Record(sample(1, job.Queued), "")
	require.NoError(t, l.Sync(context.Background()))
	r, err := Read(dir)
	require.NoError(t, err)
	jobs, err := r.Jobs(job.Filter{})
	require.NoError(t, err)
	require.Len(t, jobs, 1)
	require.NoError(t, r.Close())
	require.NoError(t, l.Close())
	require.False(t, lock.InUse(dir))
	info, err := os.Stat(dir)
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o700), info.Mode().Perm())
}

func TestForeignDamagedAndNewerAreLeftAlone(t *testing.T) {
	for name, tt := range map[string]struct {
		make func(path string) error
		want string
	}{
		"damaged": {func(p string) error {
			return os.WriteFile(p, []byte("this is no database, though it is long enough"), 0o600)
		}, "cannot be read"},
		"newer": {func(p string) error {
			return execSQL(p, `CREATE TABLE x(y)`, `PRAGMA user_version = 99`, `PRAGMA application_id = 1416193125`)
		}, "written by a newer stilltide"},
		"foreign": {func(p string) error {
			return execSQL(p, `CREATE TABLE x(y)`,
				`PRAGMA user_version = 1`)
		}, "is not a ledger of stilltide"},
		"foreign, plain": {func(p string) error { return execSQL(p, `CREATE TABLE x(y)`) },
			"is not a ledger of stilltide"},
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			path := filepath.Join(dir, FileName)
			require.NoError(t, tt.make(path))
			before, err := os.ReadFile(path)
			require.NoError(t, err)
			_, err = Open(dir, nil)
			require.ErrorContains(t, err, tt.want)
			after, err := os.ReadFile(path)
			require.NoError(t, err)
			require.True(t, bytes.Equal(before, after), "nothing was overwritten")
			require.False(t, lock.InUse(dir), "the lock was given back")
		})
	}
}

func execSQL(path string, queries ...string) error {
	db, err := sql.Open("sqlite", "file:"+path)
	if err != nil {
		return err
	}
	defer db.Close()
	for _, q := range queries {
		if _, err := db.Exec(q); err != nil {
			return err
		}
	}
	return nil
}

// A commit that fails loses nothing: it is tried again, and what was recorded
// meanwhile follows in its order.
func TestTroubleIsToldAndOvercome(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	var mu sync.Mutex
	var told []error
	l, err := Open(dir, func(err error) {
		mu.Lock()
		told = append(told, err)
		mu.Unlock()
	})
	require.NoError(t, err)
	// A second connection holds the write lock, as a backup tool might.
	db, err := sql.Open("sqlite", "file:"+filepath.Join(dir, FileName))
	require.NoError(t, err)
	defer db.Close()
	require.NoError(t, l.w.Set(`busy_timeout = 10`))
	db.SetMaxOpenConns(1)
	_, err = db.Exec(`BEGIN IMMEDIATE`)
	require.NoError(t, err)
	l.Record(sample(1, job.Queued), "")
	ctx, cancel := context.WithTimeout(context.Background(), 300*time.Millisecond)
	defer cancel()
	require.True(t, errors.Is(l.Sync(ctx), context.DeadlineExceeded))
	j := sample(1, job.Running)
	l.Record(j, job.Queued)
	_, err = db.Exec(`ROLLBACK`)
	require.NoError(t, err)
	require.NoError(t, l.Sync(context.Background()))
	jobs, err := l.Jobs(job.Filter{})
	require.NoError(t, err)
	require.Equal(t, job.Running, jobs[0].State)
	mu.Lock()
	require.Len(t, told, 2)
	require.ErrorContains(t, told[0], "the ledger cannot be written")
	require.NoError(t, told[1])
	mu.Unlock()
	require.NoError(t, l.Close())
}

func TestOldHistoryGoesAndMemoryStays(t *testing.T) {
	dir := t.TempDir()
	l := open(t, dir)
	defer l.Close()
	require.NoError(t, os.Mkdir(filepath.Join(dir, "output"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "output", "1-1.txt"), []byte("x"), 0o600))
	for i := int64(1); i <= 3; i++ {
		j := sample(i, job.Processed)
		if j.Ended = when; i == 3 {
			j.Ended = when.Add(time.Hour)
		}
		l.Record(j, "")
		l.RecordAttempt(job.Attempt{Job: i, Number: 1, Started: when, Ended: when, Output: "output/1-1.txt"})
	}
	l.Record(sample(4, job.Queued), "")
	l.Remember(job.Known{Rule: "r", File: "/in/a", Job: 1, Facts: file.Facts{Exists: true, Mod: file.At(when)}})
	require.NoError(t, l.Flush())
	n, err := l.Prune(when.Add(time.Minute), 0)
	require.NoError(t, err)
	require.Equal(t, 2, n)
	jobs, err := l.Jobs(job.Filter{})
	require.NoError(t, err)
	require.Len(t, jobs, 2, "the later one and the one that is not over")
	attempts, err := l.Attempts(1)
	require.NoError(t, err)
	require.Empty(t, attempts)
	_, err = os.Stat(filepath.Join(dir, "output", "1-1.txt"))
	require.True(t, os.IsNotExist(err))
	_, ok, err := l.Known("r", "/in/a")
	require.NoError(t, err)
	require.True(t, ok, "what is remembered of files that are there stays")
	tally, err := l.Tally()
	require.NoError(t, err)
	require.Equal(t, 3, tally["r"][job.Processed], "and so does the tally")
}

func TestMembersMountsPausesContent(t *testing.T) {
	dir := t.TempDir()
	l := open(t, dir)
	j := sample(1, job.Queued)
	j.Extra = []job.Member{{File: "/in/b", Facts: j.Facts, FileNow: "/in/b"}, {File: "/in/b.ok", Companion: true,
		Facts: j.Facts}}
	l.Record(j, "")
	l.RecordMembers(j)
	j.Extra = j.Extra[:1]
	l.RecordMembers(j)
	l.RememberMount("/in", "/mnt/card")
	l.RecordPause("r", true, time.Time{})
	l.RecordPause("s", true, time.Time{})
	l.RecordPause("s", false, time.Time{})
	l.RememberContent("r", "h", 1)
	l.RecordPlacement(job.Placement{ID: 1, Job: 1, Source: "/in/a", Target: "/b/a", Facts: j.Facts, After: j.Facts,
		State: job.Done, FinalState: job.Processed, Chained: true})
	require.NoError(t, l.Close())
	l = open(t, dir)
	defer l.Close()
	jobs, err := l.Jobs(job.Filter{})
	require.NoError(t, err)
	require.Equal(t, []string{j.File, "/in/b"}, jobs[0].Files())
	mounts, err := l.Mounts()
	require.NoError(t, err)
	require.Equal(t, map[string]string{"/in": "/mnt/card"}, mounts)
	paused, err := l.Paused()
	require.NoError(t, err)
	require.Len(t, paused, 1)
	known, err := l.KnowsContent("r", "h", 2)
	require.NoError(t, err)
	require.True(t, known)
	known, err = l.KnowsContent("r", "h", 1)
	require.NoError(t, err)
	require.False(t, known, "the job itself does not count")
	from, _, ok, err := l.Origin("/b/a", j.Facts)
	require.NoError(t, err)
	require.True(t, ok)
	require.Equal(t, "r", from)
	open, ok, err := l.OpenJob(j.File)
	require.NoError(t, err)
	require.True(t, ok)
	require.Equal(t, int64(1), open.ID)
}

// A ledger of the first schema is brought forward, also by a command that only
// reads it, and nothing in it is lost.
func TestAnOlderLedger(t *testing.T) {
	folder := t.TempDir()
	db, err := sql.Open("sqlite", filepath.Join(folder, FileName))
	require.NoError(t, err)
	for _, q := range []string{
		tables.Migrations[0], "PRAGMA user_version = 1", fmt.Sprintf("PRAGMA application_id = %d", applicationID),
		`INSERT INTO job (id, rule, file, watch, state, event, size, mod, dev, ino, taken, ended, ends_in) VALUES (7, 'r', '/in/a', '/in', 'processed', 'added', 3, 5, 1, 2, 4, 6, '/out/a')`,
		`INSERT INTO placement (id, job, source, target, dev, ino, size, mod, change, state, leads) VALUES (9, 7, '/in/a', '/out/a', 1, 2, 3, 5, 5, 'done', 'processed')`,
		`INSERT INTO attempt (job, number, started, ended, exit) VALUES (7, 1, 3, 4, 2), (7, 2, 5, 0, NULL)`,
	} {
		_, err := db.Exec(q)
		require.NoError(t, err)
	}
	require.NoError(t, db.Close())
	l, err := Read(folder)
	require.NoError(t, err)
	jobs, err := l.Jobs(job.Filter{})
	require.NoError(t, err)
	require.Len(t, jobs, 1)
	placements, err := l.Placements(7)
	require.NoError(t, err)
	require.Len(t, placements, 1)
	require.Equal(t, int64(9), placements[0].ID)
	require.Equal(t, uint64(2), placements[0].After.Ino)
	require.Equal(t, job.Moved, placements[0].Kind)
	require.Nil(t, jobs[0].Last)
	attempts, err := l.Attempts(7)
	require.NoError(t, err)
	require.Len(t, attempts, 2)
	require.Equal(t, 2, *attempts[0].Exit)
	require.NoError(t, l.Close())
	l, err = Open(folder, func(error) {})
	require.NoError(t, err)
	require.Equal(t, int64(10), l.NextPlacement(), "numbers go on")
	l.RecordPlacement(job.Placement{ID: 10, Job: 7, State: job.Done, FinalState: job.Processed})
	jobs[0].Last = &job.Attempt{Job: 7, Number: 2, Started: when, Ended: when} // the second had not counted
	l.Record(jobs[0], job.Processed)
	attempts, err = l.Attempts(7)
	require.NoError(t, err)
	require.Len(t, attempts, 2)
	require.True(t, when.Equal(attempts[1].Ended))
	require.NoError(t, l.Close())
	l, err = Open(folder, func(error) {})
	require.NoError(t, err)
	require.Equal(t, int64(11), l.NextPlacement())
	require.NoError(t, l.Close())
}

// Who reads while a watcher is making its tables waits for them.
func TestReadingBesideAStart(t *testing.T) {
	folder := t.TempDir()
	held, err := lock.Acquire(folder)
	require.NoError(t, err)
	db, err := connect(filepath.Join(folder, FileName), "journal_mode(WAL)")
	require.NoError(t, err)
	starting := &Ledger{folder: folder, db: db}
	require.NoError(t, starting.bringTo(1, tables.Migrations[:1]))
	read := make(chan error, 1)
	go func() {
		l, err := Read(folder)
		if err == nil {
			err = l.Close()
		}
		read <- err
	}()
	select {
	case err := <-read:
		require.Fail(t, "it did not wait", "%v", err)
	case <-time.After(100 * time.Millisecond):
	}
	require.NoError(t, starting.migrate())
	require.NoError(t, <-read)
	require.NoError(t, db.Close())
	held.Release()
}

// A new ledger is made at once, and has what one has that was brought forward
// step by step.
func TestNewTablesAreThoseOfTheSteps(t *testing.T) {
	made := func(steps []string) map[string][]string {
		db, err := connect(filepath.Join(t.TempDir(), FileName))
		require.NoError(t, err)
		defer db.Close()
		require.NoError(t, (&Ledger{db: db}).bringTo(tables.Version, steps))
		return shape(t, db)
	}
	step := made(tables.Migrations)
	require.Len(t, step, 32)
	require.Equal(t, step, made([]string{tables.Schema}))
}

// shape reports each table and index what it consists of.
func shape(t *testing.T, db *sql.DB) map[string][]string {
	list := func(q string, args ...any) (list []string) {
		rows, err := db.Query(q, args...)
		require.NoError(t, err)
		defer rows.Close()
		for rows.Next() {
			var s string
			require.NoError(t, rows.Scan(&s))
			list = append(list, s)
		}
		require.NoError(t, rows.Err())
		return list
	}
	is := map[string][]string{"counter's rows": list(`SELECT name || '=' || value FROM counter`)}
	for _, name := range list(`SELECT name FROM pragma_table_list WHERE schema = 'main'`) {
		is[name] = list(`SELECT cid || ' ' || name || ' ' || type || ' ' || "notnull" || ' ' || coalesce(dflt_value, 'none') || ' ' || pk FROM pragma_table_xinfo(?)`, name)
		is[name] = append(is[name],
			list(`SELECT 'without rowid ' || wr FROM pragma_table_list(?) WHERE schema = 'main'`, name)...)
	}
	for _, name := range list(`SELECT name FROM sqlite_schema WHERE type = 'index' AND sql IS NOT NULL`) {
		is[name] = append(list(`SELECT seqno || ' ' || coalesce(name, '') || ' ' || key FROM pragma_index_xinfo(?)`,
			name), list(`SELECT sql FROM sqlite_schema WHERE name = ?`, name)...)
	}
	return is
}

// An older watcher that stays at work is named as the reason.
func TestReadingBesideAnOlderWatcher(t *testing.T) {
	defer func(was time.Duration) { busyForStart = was }(busyForStart)
	busyForStart = 200 * time.Millisecond
	folder := t.TempDir()
	held, err := lock.Acquire(folder)
	require.NoError(t, err)
	defer held.Release()
	db, err := connect(filepath.Join(folder, FileName), "journal_mode(WAL)")
	require.NoError(t, err)
	defer db.Close()
	require.NoError(t, (&Ledger{folder: folder, db: db}).bringTo(1, tables.Migrations[:1]))
	_, err = Read(folder)
	require.ErrorIs(t, err, ErrBusy)
	require.ErrorContains(t, err, "an older stilltide is using the ledger in "+folder+
		"; stop it, then start this one")
}

// What was committed is brought to the tables' file when there is nothing else
// to do.
func TestTheLogIsTidiedAtRest(t *testing.T) {
	folder := t.TempDir()
	l, err := Open(folder, func(err error) { t.Error(err) })
	require.NoError(t, err)
	size := func() int64 {
		info, err := os.Stat(filepath.Join(folder, FileName))
		require.NoError(t, err)
		return info.Size()
	}
	before := size()
	const rows = 500
	for range rows {
		l.Record(job.Job{ID: l.NextID(), Rule: "r", File: strings.Repeat("long/", 50), State: job.Queued,
			Taken: when}, "")
	}
	require.NoError(t, l.Flush())
	require.Eventually(t, func() bool { return size() > before+rows*250 }, 20*time.Second, time.Millisecond)
	require.NoError(t, l.Close())
}

// What may be written late is written in the end, once, with the newest value
// of each row and the right tally: after Flush, and after Close.
func TestLateRows(t *testing.T) {
	folder := t.TempDir()
	l, err := Open(folder, func(err error) { t.Error(err) })
	require.NoError(t, err)
	const jobs = 3100 // more than two commits hold
	end := func(from, to int) {
		var list []job.Job
		for i := from; i < to; i++ {
			j := job.Job{ID: l.NextID(), Rule: "r", File: fmt.Sprintf("/in/%d", i), State: job.Running, Attempts: 1,
				Taken: time.Unix(1, 0)}
			l.Record(j, "")
			l.RecordPlacement(job.Placement{ID: l.NextPlacement(), Job: j.ID, Kind: "moved", Source: j.File,
				Target: "/out", State: job.Intended, FinalState: job.Processed})
			list = append(list, j)
		}
		require.NoError(t, l.Sync(context.Background()))
		placed, err := l.Placements(list[len(list)-1].ID)
		require.NoError(t, err)
		require.Len(t, placed, 1, "the intention is there after Sync")
		for _, j := range list {
			l.RecordPlaced(&job.Placement{ID: j.ID, Job: j.ID, Kind: "moved", Source: j.File, Target: "/out",
				FinalState: job.Processed}, file.Facts{})
			j.State, j.Ended = job.Processed, time.Unix(2, 0)
			l.RecordEnd(&j, job.Running)
		}
		again := list[0] // what is recorded after that counts, and is not late
		again.State, again.Ended = job.Queued, time.Time{}
		l.Record(again, job.Processed)
	}
	check := func(processed, queued int) {
		tally, err := l.Tally()
		require.NoError(t, err)
		require.Equal(t, processed, tally["r"][job.Processed])
		require.Equal(t, queued, tally["r"][job.Queued])
		require.Equal(t, 0, tally["r"][job.Running])
		list, err := l.Jobs(job.Filter{States: []job.State{job.Processed}})
		require.NoError(t, err)
		require.Len(t, list, processed)
		placed, err := l.Placements(list[0].ID)
		require.NoError(t, err)
		require.Equal(t, job.Done, placed[0].State)
	}
	end(0, jobs)
	require.NoError(t, l.Flush())
	check(jobs-1, 1)
	end(jobs, jobs+700)
	require.NoError(t, l.Close())
	l, err = Open(folder, func(err error) { t.Error(err) })
	require.NoError(t, err)
	defer l.Close()
	check(jobs+700-2, 2)
}

// A lock file that somebody removes does not let a second program write.
func TestARemovedLockFile(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	first, err := Open(folder, func(error) {})
	require.NoError(t, err)
	defer first.Close()
	lock := filepath.Join(folder, "lock")
	require.NoError(t, os.Remove(lock))
	first.RecordPause("a", true, time.Time{})
	require.NoError(t, first.Flush(), "it is made anew")
	_, err = Open(folder, func(error) {})
	require.ErrorIs(t, err, ErrBusy)

	require.NoError(t, os.Remove(lock))
	second, err := Open(folder, func(error) {})
	require.NoError(t, err, "this one was quicker")
	defer second.Close()
	first.RecordPause("b", true, time.Time{})
	require.ErrorIs(t, first.Flush(), ErrBusy)
	second.RecordPause("c", true, time.Time{})
	require.NoError(t, second.Flush())
}

// An empty file in the place of a ledger that was in use is no new ledger.
func TestAnEmptyFileIsNoNewLedger(t *testing.T) {
	folder := t.TempDir()
	path := filepath.Join(folder, FileName)
	require.NoError(t, os.WriteFile(path, nil, 0o600)) // a first start that was ended by force
	l, err := Open(folder, func(error) {})
	require.NoError(t, err)
	require.NoError(t, l.Close())
	require.NoError(t, os.Truncate(path, 0))
	_, err = Open(folder, func(error) {})
	require.ErrorContains(t, err, "is empty, and it was not before")
	_, err = Read(folder) // nor does a reader say that there is none yet
	require.ErrorContains(t, err, "is empty, and it was not before")
	require.NoError(t, os.Remove(path))
	l, err = Open(folder, func(error) {})
	require.NoError(t, err)
	require.NoError(t, l.Close())
}
