package ledger

import (
	"cmp"
	"database/sql"
	"slices"
	"sync"
	"time"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/tables"
)

// asked are the queries that may be asked for each file that comes.
type asked struct{ known, among, open, later, origin query }

func newAsked() *asked {
	return &asked{
		known: query{text: `SELECT ` + tables.KnownColumns + `, is_folder, hash FROM known
			WHERE rule = ? AND file = ?`},
		among: query{text: `SELECT ` + tables.KnownColumns + `, file FROM known
			WHERE rule = ? AND file BETWEEN ? AND ? AND is_folder = 0 ORDER BY file`},
		open: query{text: `SELECT ` + tables.JobColumns +
			` FROM job WHERE id IN (SELECT id FROM job WHERE file = ?1 AND ended_at = 0 UNION ALL
			SELECT * FROM (SELECT job FROM member WHERE file = ?1 ORDER BY job DESC LIMIT 100))
			AND ended_at = 0 ORDER BY id DESC LIMIT 1`},
		later: query{text: `SELECT ` + tables.JobColumns +
			` FROM job WHERE id = (SELECT min(id) FROM (
			SELECT * FROM (SELECT id FROM job WHERE file = ?1 AND id > ?2 AND event <> 'removed' ORDER BY id LIMIT 1)
			UNION ALL SELECT * FROM (SELECT job FROM member WHERE file = ?1 AND job > ?2 ORDER BY job LIMIT 1)))`},
		origin: query{text: `SELECT job.rule, job.chain FROM placement JOIN job ON job.id = placement.job
			WHERE placement.target = ? AND placement.chained = 1 AND placement.after_size = ? AND placement.after_mtime = ?
			AND placement.state IN ('intended', 'done') AND placement.kind <> 'tagged' ORDER BY placement.id DESC LIMIT 1`},
	}
}

// query is a query that is prepared when it is asked for the first time: to
// understand its text takes longer than to answer it. It ends with the database.
type query struct {
	text string
	once sync.Once
	stmt *sql.Stmt
	err  error
}

func (q *query) of(db *sql.DB) (*sql.Stmt, error) {
	q.once.Do(func() { q.stmt, q.err = db.Prepare(q.text) })
	return q.stmt, q.err
}

// Rest gives queued jobs of paused rules the state in which they are shown: held.
func (l *Ledger) Rest(jobs []job.Job) error {
	paused, err := l.Paused()
	if len(paused) == 0 || err != nil {
		return err
	}
	for i := range jobs {
		if _, rests := paused.Rule(jobs[i].Rule); jobs[i].State == job.Queued && rests {
			jobs[i].Become(job.Held)
		}
	}
	return nil
}

func (l *Ledger) jobs(q string, args ...any) ([]job.Job, error) {
	rows, err := l.db.Query(q, args...)
	if err != nil {
		return nil, l.damaged(err)
	}
	return l.scanJobs(rows)
}

func (l *Ledger) scanJobs(rows *sql.Rows) ([]job.Job, error) {
	defer rows.Close()
	var list []job.Job
	for rows.Next() {
		j, err := l.scanJob(rows)
		if err != nil {
			return nil, l.damaged(err)
		}
		list = append(list, j)
	}
	if err := rows.Err(); err != nil {
		return nil, l.damaged(err)
	}
	return list, l.members(list)
}

// members fills in the further files of jobs that have some.
func (l *Ledger) members(jobs []job.Job) error {
	if len(jobs) == 0 {
		return nil
	}
	place := map[int64]int{}
	low, high := jobs[0].ID, jobs[0].ID
	for i, j := range jobs {
		place[j.ID] = i
		low, high = min(low, j.ID), max(high, j.ID)
	}
	rows, err := l.db.Query(`SELECT job, file, companion, size, mtime, dev, ino, file_now FROM member WHERE job BETWEEN ? AND ? ORDER BY job, number`, low, high)
	if err != nil {
		return l.damaged(err)
	}
	defer rows.Close()
	for rows.Next() {
		var m job.Member
		var job, mod, dev, ino int64
		var fileNow sql.NullString
		if err := rows.Scan(&job, &m.File, &m.Companion, &m.Facts.Size, &mod, &dev, &ino, &fileNow); err != nil {
			return l.damaged(err)
		}
		m.Facts = file.Facts{Exists: true, Regular: true, Size: m.Facts.Size, Mod: file.Time(mod), Dev: uint64(dev),
			Ino: uint64(ino)}
		m.FileNow = fileNow.String
		if i, ok := place[job]; ok {
			jobs[i].Extra = append(jobs[i].Extra, m)
		}
	}
	return rows.Err()
}

// Origin returns the rule whose job placed the file at a path, and the rules
// before it.
func (l *Ledger) Origin(path string, f file.Facts) (rule, chain string, ok bool, err error) {
	l.mu.Lock()
	_, recent := l.chained[path]
	l.mu.Unlock()
	if recent {
		l.settle()
	}
	ask, err := l.ask.origin.of(l.db)
	if err != nil {
		return "", "", false, l.damaged(err)
	}
	err = ask.QueryRow(path, f.Size, int64(f.Mod)).Scan(&rule, &chain)
	if err == sql.ErrNoRows {
		return "", "", false, nil
	}
	return l.shown(rule), chain, err == nil, err
}

// FolderOrigin is Origin for a folder that was placed as a whole: what lies in it came
// with it.
func (l *Ledger) FolderOrigin(path string) (rule, chain string, ok bool, err error) {
	l.mu.Lock()
	_, recent := l.chained[path]
	l.mu.Unlock()
	if recent {
		l.settle()
	}
	err = l.db.QueryRow(`SELECT job.rule, job.chain FROM placement JOIN job ON job.id = placement.job
		WHERE placement.target = ? AND placement.chained = 1 AND placement.is_folder = 1 AND placement.state IN ('intended', 'done') ORDER BY placement.id DESC LIMIT 1`, path).Scan(&rule, &chain)
	if err == sql.ErrNoRows {
		return "", "", false, nil
	}
	return l.shown(rule), chain, err == nil, err
}

// KnowsContent reports whether a rule has handled content under another job.
func (l *Ledger) KnowsContent(rule, hash string, job int64) (bool, error) {
	l.settle()
	var n int
	err := l.db.QueryRow(`SELECT count(*) FROM content WHERE rule IN (?, ?) AND hash = ? AND job <> ?`, l.inTables(rule),
		l.beside[rule], hash, job).Scan(&n)
	return n > 0, err
}

// recorded returns the newest job of a path that may not be in its table yet. It has lost the file
// if that is not among its own.
func (l *Ledger) recorded(path string) (j job.Job, ok bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if recent := l.recent[path]; recent != nil {
		return *recent, true
	}
	return job.Job{}, false
}

// OpenJob finds the job of a path that is not over: the path is that of its file, of a further file
// of a batch or group, or of a marker. Of the jobs with such a file the newest hundred are asked.
func (l *Ledger) OpenJob(path string) (job.Job, bool, error) {
	if j, ok := l.recorded(path); ok {
		return j, !j.State.Final() && hasFile(&j, path), nil
	}
	ask, err := l.ask.open.of(l.db)
	if err != nil {
		return job.Job{}, false, l.damaged(err)
	}
	rows, err := ask.Query(path)
	if err != nil {
		return job.Job{}, false, l.damaged(err)
	}
	list, err := l.scanJobs(rows)
	if err != nil || len(list) == 0 || l.hasLost(list[0].ID, path) {
		return job.Job{}, false, err
	}
	return list[0], true, nil
}

// hasLost reports whether a job has lost a file since its rows were written.
func (l *Ledger) hasLost(id int64, path string) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	j := l.several[id]
	return j != nil && !hasFile(j.now, path)
}

func (l *Ledger) scanJob(rows *sql.Rows) (job.Job, error) {
	var j job.Job
	var mod, dev, ino, taken, due, started, ended, ran, seen int64
	var exit sql.NullInt64
	var fileNow sql.NullString
	var last attemptScan
	err := rows.Scan(append([]any{&j.ID, &j.Rule, &j.File, &j.Watch, &j.State, &j.Event, &j.Facts.Size, &mod, &dev,
		&ino, &j.Facts.Dir, &j.Hash,
		&j.Attempts, &j.Earlier, &taken, &due, &started, &ended, &ran, &exit, &j.Reason, &fileNow, &j.Chain,
		&j.Depth, &j.Result, &seen, &j.Crashes, &j.OldFile}, last.columns()...)...)
	j.Facts = file.Facts{Exists: true, Dir: j.Facts.Dir, Regular: !j.Facts.Dir, Size: j.Facts.Size,
		Mod: file.Time(mod), Dev: uint64(dev), Ino: uint64(ino)}
	j.Seen, j.Taken, j.Due, j.Started, j.Ended, j.Ran = tables.FromNano(seen), tables.FromNano(taken),
		tables.FromNano(due),
		tables.FromNano(started), tables.FromNano(ended), time.Duration(ran)
	j.Rule = l.shown(j.Rule)
	j.Exit, j.FileNow, j.Last = exitOf(exit), fileNow.String, last.attempt(j.ID)
	return j, err
}

// Attempts lists a job's attempts: the newest is in the job's own row.
func (l *Ledger) Attempts(id int64) ([]job.Attempt, error) {
	l.settle()
	rows, err := l.db.Query(`SELECT number, started_at, ended_at, exit_code, reason, cpu, memory, output FROM attempt
		WHERE job = ?1 AND number <> coalesce((SELECT last FROM job WHERE id = ?1), 0)
		UNION ALL SELECT `+tables.LastColumns+` FROM job WHERE id = ?1 AND last > 0 ORDER BY 1`, id)
	if err != nil {
		return nil, l.damaged(err)
	}
	defer rows.Close()
	var list []job.Attempt
	for rows.Next() {
		var s attemptScan
		if err := rows.Scan(s.columns()...); err != nil {
			return nil, l.damaged(err)
		}
		list = append(list, *s.attempt(id))
	}
	return list, rows.Err()
}

// attemptScan takes the columns of an attempt.
type attemptScan struct {
	job.Attempt
	started, ended, cpu int64
	exit                sql.NullInt64
}

func (s *attemptScan) columns() []any {
	return []any{&s.Number, &s.started, &s.ended, &s.exit, &s.Reason, &s.cpu, &s.Memory, &s.Output}
}

// attempt is what was scanned, nil if there is none.
func (s *attemptScan) attempt(of int64) *job.Attempt {
	if s.Number == 0 {
		return nil
	}
	a := s.Attempt
	a.Job, a.Started, a.Ended, a.CPU, a.Exit = of, tables.FromNano(s.started), tables.FromNano(s.ended),
		time.Duration(s.cpu),
		exitOf(s.exit)
	return &a
}

func exitOf(n sql.NullInt64) *int {
	if !n.Valid {
		return nil
	}
	exit := int(n.Int64)
	return &exit
}

// Tally counts jobs by rule and state.
func (l *Ledger) Tally() (map[string]map[job.State]int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	tally, err := l.tally, error(nil)
	if l.w == nil {
		tally, err = l.readTally()
	}
	all := map[string]map[job.State]int{}
	for k, n := range tally {
		if all[k.Rule] == nil {
			all[k.Rule] = map[job.State]int{}
		}
		all[k.Rule][k.State] = n
	}
	return all, err
}

func (l *Ledger) readTally() (map[tables.TallyKey]int, error) {
	rows, err := l.db.Query(`SELECT rule, state, jobs FROM tally`)
	if err != nil {
		return nil, l.damaged(err)
	}
	defer rows.Close()
	tally := map[tables.TallyKey]int{}
	for rows.Next() {
		var k tables.TallyKey
		var n int
		if err := rows.Scan(&k.Rule, &k.State, &n); err != nil {
			return nil, l.damaged(err)
		}
		k.Rule = l.shown(k.Rule)
		tally[k] += n
	}
	return tally, rows.Err()
}

// LastEnded returns the newest job of a rule that is over.
func (l *Ledger) LastEnded(rule string) (job.Job, bool, error) {
	list, err := l.jobs(`SELECT `+tables.JobColumns+
		` FROM job WHERE rule = ? AND ended_at > 0 ORDER BY ended_at DESC LIMIT 1`, l.inTables(rule))
	if err != nil || len(list) == 0 {
		return job.Job{}, false, err
	}
	return list[0], true, nil
}

// pageSize is how many jobs are read at once, so that no reader keeps the
// write-ahead log from shrinking.
const pageSize = 10_000

// EachEnded calls f for all jobs that ended since a time, in the order of
// their numbers. The further files of batches and groups are left out.
func (l *Ledger) EachEnded(since time.Time, f func(job.Job)) error {
	last := int64(0)
	for {
		rows, err := l.db.Query(`SELECT `+tables.JobColumns+
			` FROM job WHERE id > ? AND ended_at > 0 AND ended_at >= ? ORDER BY id LIMIT ?`, last, tables.Nano(since),
			pageSize)
		if err != nil {
			return l.damaged(err)
		}
		n := 0
		for rows.Next() {
			j, err := l.scanJob(rows)
			if err != nil {
				rows.Close()
				return l.damaged(err)
			}
			last = j.ID
			n++
			f(j)
		}
		if err := rows.Err(); err != nil {
			return l.damaged(err)
		}
		if n < pageSize {
			return nil
		}
	}
}

// FirstEnded returns when the first of the jobs ended that ended since a time;
// zero if there is none.
func (l *Ledger) FirstEnded(since time.Time) (time.Time, error) {
	var first sql.NullInt64
	if err := l.db.QueryRow(`SELECT min(ended_at) FROM job WHERE ended_at > 0 AND ended_at >= ?`,
		tables.Nano(since)).Scan(&first); err != nil {
		return time.Time{}, l.damaged(err)
	}
	return tables.FromNano(first.Int64), nil
}

// Recent lists the jobs that ended last, the last first. It asks rule by
// rule, which an index answers however long the history is.
func (l *Ledger) Recent(limit int) ([]job.Job, error) {
	tally, err := l.Tally()
	if err != nil {
		return nil, err
	}
	var recent []job.Job
	for rule := range tally {
		list, err := l.jobs(`SELECT `+tables.JobColumns+
			` FROM job WHERE rule = ? AND ended_at > 0 ORDER BY ended_at DESC LIMIT ?`, l.inTables(rule), limit)
		if err != nil {
			return nil, err
		}
		recent = append(recent, list...)
	}
	slices.SortFunc(recent, func(a, b job.Job) int { return b.Ended.Compare(a.Ended) })
	return recent[:min(len(recent), limit)], nil
}

// OpenJobs lists jobs that are not over and are in one of the states, of one
// rule or, with "", of all, in the order of their numbers, from behind a number,
// at most so many (0 for all). An index answers it, however long the queue is.
func (l *Ledger) OpenJobs(rule string, states []job.State, after int64, limit int) ([]job.Job, error) {
	l.settle()
	names, open := []string{rule}, []job.Job(nil)
	if rule == "" {
		var err error
		if names, err = l.rulesAmong("job WHERE ended_at = 0"); err != nil {
			return nil, err
		}
	}
	limit = cmp.Or(limit, -1)
	for _, name := range names {
		for _, s := range states {
			list, err := l.jobs(`SELECT `+tables.JobColumns+
				` FROM job WHERE ended_at = 0 AND rule = ? AND state = ? AND id > ? ORDER BY id LIMIT ?`, l.inTables(name),
				string(s), after, limit)
			if err != nil {
				return nil, err
			}
			open = append(open, list...)
		}
	}
	slices.SortFunc(open, func(a, b job.Job) int { return cmp.Compare(a.ID, b.ID) })
	if limit > 0 {
		open = open[:min(len(open), limit)]
	}
	return open, nil
}
