package ledger

import (
	"time"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
)

// statement is one of the ways in which the writer changes a table. The journal
// keeps its number: a new one comes last.
type statement byte

const (
	putJob statement = iota
	putAttempt
	putPlacement
	putKnown
	dropKnown
	putMember
	dropMembers
	putContent
	putWatched
	putPause
	putMount
	dropJob
	dropAttempts
	dropPlacements
	putCounter
	putTally
	putJournal
	dropJournal
	putTriedJob // a job with its newest attempt: one that has one never goes back to none
	putBoot
	putDismissed
	dropDismissed
	putTicket
	dropTicket
	putIdentity
	statements // how many there are
)

// sqlOf is the text of each statement. The journal keeps it beside the values,
// so that a text may change from one version to the next.
var sqlOf = [statements]string{
	putJob: `INSERT INTO job (` + plainColumns +
		`) VALUES (?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?)` + overJob,
	putTriedJob: `INSERT INTO job (` + jobColumns + `) VALUES (?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?)` + overJob + `,
		last=excluded.last, last_started_at=excluded.last_started_at, last_ended_at=excluded.last_ended_at, last_exit_code=excluded.last_exit_code, last_reason=excluded.last_reason,
		last_cpu=excluded.last_cpu, last_memory=excluded.last_memory, last_output=excluded.last_output`,
	putAttempt: `INSERT INTO attempt (job, number, started_at, ended_at, exit_code, reason, cpu, memory, output) VALUES (?,?,?,?,?,?,?,?,?)
		ON CONFLICT (job, number) DO UPDATE SET started_at=excluded.started_at, ended_at=excluded.ended_at, exit_code=excluded.exit_code, reason=excluded.reason,
		cpu=excluded.cpu, memory=excluded.memory, output=excluded.output`,
	putPlacement: `INSERT INTO placement (job, id, attempt, kind, source, target, is_folder, dev, ino, size, mtime, ctime, after_dev, after_ino, after_size, after_mtime, replaced, kept, chained, state, final_state, mode, made)
		VALUES (?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?)
		ON CONFLICT (job, id) DO UPDATE SET target=excluded.target, state=excluded.state, kind=excluded.kind, dev=excluded.dev, ino=excluded.ino,
		after_dev=excluded.after_dev, after_ino=excluded.after_ino, after_size=excluded.after_size, after_mtime=excluded.after_mtime, replaced=excluded.replaced, kept=excluded.kept, made=excluded.made`,
	putKnown: `INSERT INTO known (rule, file, size, mtime, dev, ino, is_folder, hash, job) VALUES (?,?,?,?,?,?,?,?,?)
		ON CONFLICT (rule, file) DO UPDATE SET size=excluded.size, mtime=excluded.mtime, dev=excluded.dev, ino=excluded.ino, hash=excluded.hash, job=excluded.job`,
	dropKnown: `DELETE FROM known WHERE rule = ? AND file = ?`,
	putMember: `INSERT INTO member (job, number, file, companion, size, mtime, dev, ino, file_now) VALUES (?,?,?,?,?,?,?,?,?)
		ON CONFLICT (job, number) DO UPDATE SET file=excluded.file, size=excluded.size, mtime=excluded.mtime, dev=excluded.dev, ino=excluded.ino, file_now=excluded.file_now`,
	dropMembers:    `DELETE FROM member WHERE job = ? AND number >= ?`,
	putContent:     `INSERT INTO content (rule, hash, job) VALUES (?,?,?) ON CONFLICT (rule, hash) DO NOTHING`,
	putWatched:     `INSERT INTO watched (rule, folder) VALUES (?,?) ON CONFLICT DO NOTHING`,
	putPause:       `INSERT INTO pause (rule, paused, since, until) VALUES (?,?,?,?) ON CONFLICT (rule) DO UPDATE SET paused=excluded.paused, since=excluded.since, until=excluded.until`,
	putMount:       `INSERT INTO mount (folder, point) VALUES (?,?) ON CONFLICT (folder) DO UPDATE SET point=excluded.point`,
	dropJob:        `DELETE FROM job WHERE id = ?`,
	dropAttempts:   `DELETE FROM attempt WHERE job = ?`,
	dropPlacements: `DELETE FROM placement WHERE job = ?`,
	putCounter:     `UPDATE counter SET value = max(value, ?) WHERE name = 'placement'`,
	putTally:       `INSERT INTO tally (rule, state, jobs) VALUES (?,?,?) ON CONFLICT (rule, state) DO UPDATE SET jobs = jobs + excluded.jobs`,
	putJournal:     `INSERT INTO journal (id, statements, rows) VALUES (?,?,?)`,
	putBoot:        `INSERT INTO boot (one, id) VALUES (1, ?) ON CONFLICT (one) DO UPDATE SET id = excluded.id`,
	dropJournal:    `DELETE FROM journal WHERE id = ?`,
	putDismissed:   `INSERT INTO dismissed (job, attempts) VALUES (?,?) ON CONFLICT (job) DO UPDATE SET attempts=excluded.attempts`,
	dropDismissed:  `DELETE FROM dismissed WHERE job = ?`,
	putTicket:      `INSERT INTO ticket (ticket, job, attempt, step, pool, content, handed_at) VALUES (?,?,?,?,?,?,?) ON CONFLICT (ticket) DO NOTHING`,
	dropTicket:     `DELETE FROM ticket WHERE ticket = ?`,
	putIdentity:    `INSERT INTO identity (one, id) VALUES (1, ?) ON CONFLICT (one) DO NOTHING`,
}

const overJob = ` ON CONFLICT (id) DO UPDATE SET rule=excluded.rule, state=excluded.state, event=excluded.event, size=excluded.size, mtime=excluded.mtime, dev=excluded.dev, ino=excluded.ino,
	hash=excluded.hash, attempts=excluded.attempts, earlier=excluded.earlier, next_attempt=excluded.next_attempt, started_at=excluded.started_at, ended_at=excluded.ended_at, ran=excluded.ran,
	exit_code=excluded.exit_code, reason=excluded.reason, file_now=excluded.file_now, result=excluded.result, crashes=excluded.crashes`

// record is what is to be written to one row. What it is made of is kept, not
// its columns: a row that is recorded again before it is written costs little.
type record struct {
	statement statement
	columns   columns // unless one of the following is set
	job       *job.Job
	was       job.State // job: the state that the table has, "" if it has none
	placement *job.Placement
	attempt   *job.Attempt
	known     *job.Known
	knownKey  *knownKey // leaves the memory of what is not yet in its table
}

// fill adds the values of the row.
func (r *record) fill(c columns) columns {
	switch {
	case r.job != nil:
		return jobColumnsOf(c, r.job)
	case r.placement != nil:
		return placementColumnsOf(c, r.placement)
	case r.attempt != nil:
		return attemptColumnsOf(c, r.attempt)
	case r.known != nil:
		return knownColumnsOf(c, r.known)
	}
	return append(c, r.columns...)
}

// rowKey names a row that has a number, and perhaps one more below it. It has no
// gaps, so that maps take it as plain memory.
type rowKey struct {
	id  int64
	sub int32
	of  rowKind
}

// rowName names a row that has none.
type rowName struct {
	of rowKind
	knownKey
}

// rowKind is what a row is about. Statements that take rows away have kinds of
// their own, so that they do not stand in for rows that are written.
type rowKind int32

const (
	jobRow rowKind = iota
	attemptRow
	placementRow
	membersRow
	memberRow
	knownRow
	contentRow
	watchedRow
	pauseRow
	mountRow
	bootRow
	dismissedRow
	ticketRow
	closedTicket
	identityRow
	prunedDismissed
	prunedJob
	prunedAttempts
	prunedPlacements
	prunedMembers
)

// column is a value of a row: a whole number, a text, or nothing.
type column struct {
	kind columnKind
	n    int64
	s    string
}

type columnKind byte

const (
	nothing columnKind = iota
	number
	text
)

type columns []column

func (c columns) num(n ...int64) columns {
	for _, v := range n {
		c = append(c, column{kind: number, n: v})
	}
	return c
}

func (c columns) text(s ...string) columns {
	for _, v := range s {
		c = append(c, column{kind: text, s: v})
	}
	return c
}

func (c columns) flag(is bool) columns {
	if is {
		return c.num(1)
	}
	return c.num(0)
}

// place is where a file is: nothing if it is nowhere.
func (c columns) place(path string) columns {
	if path == "" {
		return append(c, column{})
	}
	return c.text(path)
}

func (c columns) exit(n *int) columns {
	if n == nil {
		return append(c, column{})
	}
	return c.num(int64(*n))
}

// args returns the values as a statement takes them.
func (c columns) args(to []any) []any {
	for _, v := range c {
		switch v.kind {
		case number:
			to = append(to, v.n)
		case text:
			to = append(to, v.s)
		default:
			to = append(to, nil)
		}
	}
	return to
}

// jobColumnsOf begins with the job's number, its rule and, at jobState, its
// state: the journal is read by these.
func jobColumnsOf(c columns, j *job.Job) columns {
	f := j.Facts
	c = c.num(j.ID).text(j.Rule, j.File, j.Watch, string(j.State), string(j.Event)).num(f.Size, int64(f.Mod),
		int64(f.Dev), int64(f.Ino)).flag(f.Dir)
	c = c.text(j.Hash).num(int64(j.Attempts), int64(j.Earlier), nano(j.Taken), nano(j.Due), nano(j.Started),
		nano(j.Ended), int64(j.Ran))
	c = c.exit(j.Exit).text(j.Reason).place(j.FileNow).text(j.Chain)
	c = c.num(int64(j.Depth)).text(j.Result).num(nano(j.Seen), int64(j.Crashes)).text(j.OldFile)
	if j.Last == nil {
		return c
	}
	return lastColumnsOf(c, j.Last)
}

const jobState = 4

func placementColumnsOf(c columns, p *job.Placement) columns {
	f, g := p.Facts, p.After
	c = c.num(p.Job, p.ID, int64(p.Attempt)).text(string(p.Kind), p.Source, p.Target).flag(f.Dir || g.Dir)
	c = c.num(int64(f.Dev), int64(f.Ino), f.Size, int64(f.Mod), int64(f.Change), int64(g.Dev), int64(g.Ino), g.Size,
		int64(g.Mod))
	return c.flag(p.Replaced).text(p.Kept).flag(p.Chained).text(string(p.State),
		string(p.FinalState)).num(int64(f.Mode), int64(p.Made))
}

func attemptColumnsOf(c columns, a *job.Attempt) columns { return lastColumnsOf(c.num(a.Job), a) }

// lastColumnsOf returns what a job's row has of its newest attempt.
func lastColumnsOf(c columns, a *job.Attempt) columns {
	c = c.num(int64(a.Number), nano(a.Started), nano(a.Ended)).exit(a.Exit)
	return c.text(a.Reason).num(int64(a.CPU), a.Memory).text(a.Output)
}

func knownColumnsOf(c columns, k *job.Known) columns {
	f := k.Facts
	return c.text(k.Rule, k.File).num(f.Size, int64(f.Mod), int64(f.Dev),
		int64(f.Ino)).flag(f.Dir).text(k.Hash).num(k.Job)
}

// Record writes a job's row, and those of its further files with it. was is the state that was
// recorded before, "" for a new job; it keeps the tally right.
func (l *Ledger) Record(j job.Job, was job.State) {
	key, r := l.jobRecord(j, was)
	if len(j.Extra) == 0 {
		l.w.add(key, r)
		return
	}
	l.w.addTogether(append([]keyed{{key, r}}, memberRecords(j)...))
}

// RecordTaken is Record for a new job of one file that has not begun. A crash that
// loses it costs finding the file again, so it may be written late.
func (l *Ledger) RecordTaken(j job.Job) { l.w.addLate(l.jobRecord(j, "")) }

// RecordEnd is Record for a job that is over and whose input went where its
// recorded placement said. A crash that loses it costs a look at that place, so
// it may be written late. The job is copied.
func (l *Ledger) RecordEnd(j *job.Job, was job.State) {
	if !l.w.renew(rowKey{of: jobRow, id: j.ID}, func(r *record) {
		l.tallied(j, was)
		r.statement, *r.job = statementOf(j), *j
	}) {
		l.w.addLate(l.jobRecord(*j, was))
	}
}

func statementOf(j *job.Job) statement {
	if j.Last == nil {
		return putJob
	}
	return putTriedJob
}

func (l *Ledger) jobRecord(j job.Job, was job.State) (rowKey, *record) {
	r := &struct {
		record
		of job.Job
	}{record{statement: statementOf(&j), was: was}, j}
	r.job = &r.of
	l.mu.Lock()
	l.recent[j.File] = r.job
	l.tallied(r.job, was)
	l.mu.Unlock()
	return rowKey{of: jobRow, id: j.ID}, &r.record
}

// tallied counts a job in its new state. The lock is held.
func (l *Ledger) tallied(j *job.Job, was job.State) {
	if was == j.State {
		return
	}
	l.tally[tallyKey{j.Rule, j.State}]++
	if was != "" {
		l.tally[tallyKey{j.Rule, was}]--
	}
}

// RecordMembers writes the rows of a job's further files. A job never gains
// files; rows behind its last are ones that went.
func (l *Ledger) RecordMembers(j job.Job) { l.w.addTogether(memberRecords(j)) }

func memberRecords(j job.Job) []keyed {
	list := []keyed{{rowKey{of: membersRow, id: j.ID},
		&record{statement: dropMembers, columns: columns{}.num(j.ID, int64(len(j.Extra)))}}}
	for i, m := range j.Extra {
		f := m.Facts
		values := columns{}.num(j.ID, int64(i)).text(m.File).flag(m.Companion)
		values = values.num(f.Size, int64(f.Mod), int64(f.Dev), int64(f.Ino)).place(m.FileNow)
		list = append(list, keyed{rowKey{of: memberRow, id: j.ID, sub: int32(i)},
			&record{statement: putMember, columns: values}})
	}
	return list
}

// RememberContent notes content that a rule never takes again.
func (l *Ledger) RememberContent(rule, hash string, job int64) {
	l.w.addNamed(rowName{contentRow, knownKey{rule, hash}},
		&record{statement: putContent, columns: columns{}.text(rule, hash).num(job)})
}

// RecordWatched notes that a rule has watched a folder.
func (l *Ledger) RecordWatched(rule, folder string) {
	l.w.addNamed(rowName{watchedRow, knownKey{rule, folder}},
		&record{statement: putWatched, columns: columns{}.text(rule, folder)})
}

// RecordPause notes that a rule or folder is paused until a time (see job.Pauses), or goes on;
// "" is all rules.
func (l *Ledger) RecordPause(rule string, paused bool, until time.Time) {
	l.w.addNamed(rowName{pauseRow, knownKey{rule: rule}},
		&record{statement: putPause, columns: columns{}.text(rule).flag(paused).num(nano(time.Now()), nano(until))})
}

// RecordDismissed notes that somebody has seen that a job failed. When it fails once more
// after that, nobody has.
func (l *Ledger) RecordDismissed(j job.Job) {
	l.w.add(rowKey{of: dismissedRow, id: j.ID},
		&record{statement: putDismissed, columns: columns{}.num(j.ID, int64(j.Attempts))})
}

// RememberMount notes the mount point that a folder lies on, "" to forget it.
func (l *Ledger) RememberMount(folder, point string) {
	l.w.addNamed(rowName{mountRow, knownKey{file: folder}},
		&record{statement: putMount, columns: columns{}.text(folder, point)})
}

// RecordBoot notes in which start of the system the ledger is used.
func (l *Ledger) RecordBoot(id string) {
	l.w.addNamed(rowName{of: bootRow}, &record{statement: putBoot, columns: columns{}.text(id)})
}

// RecordAttempt writes a row for an attempt that another has followed: the newest
// is in the job's own row.
func (l *Ledger) RecordAttempt(a job.Attempt) {
	l.w.add(rowKey{of: attemptRow, id: a.Job, sub: int32(a.Number)}, &record{statement: putAttempt, attempt: &a})
}

// RecordPlacement writes a placement's row.
func (l *Ledger) RecordPlacement(p job.Placement) { l.w.add(l.placementRecord(p)) }

// RecordIntention is RecordPlacement for one that is the ledger's from now on: it
// must not be changed any more.
func (l *Ledger) RecordIntention(p *job.Placement) {
	l.chain(p)
	l.w.add(rowKey{of: placementRow, id: p.ID}, &record{statement: putPlacement, placement: p})
}

// RecordPlaced notes that a placement was done just as its intention says, and
// the facts of its target; it may be written late.
func (l *Ledger) RecordPlaced(p *job.Placement, after file.Facts) {
	if !l.w.renew(rowKey{of: placementRow, id: p.ID}, func(r *record) {
		if r.placement != p {
			*r.placement = *p
		}
		r.placement.Done(after)
	}) {
		done := *p
		done.Done(after)
		l.w.addLate(l.placementRecord(done))
	}
}

func (l *Ledger) placementRecord(p job.Placement) (rowKey, *record) {
	r := &struct {
		record
		of job.Placement
	}{record{statement: putPlacement}, p}
	r.placement = &r.of
	l.chain(r.placement)
	return rowKey{of: placementRow, id: p.ID}, &r.record
}

// chain remembers a placement that may have to be found by its target soon.
func (l *Ledger) chain(p *job.Placement) {
	if p.Chained {
		l.mu.Lock()
		l.chained[p.Target] = p
		l.mu.Unlock()
	}
}

// settled forgets the copies of what is in its table now.
func (l *Ledger) settled(r *record) {
	if r.job != nil && l.recent[r.job.File] == r.job {
		delete(l.recent, r.job.File)
	}
	if r.placement != nil && l.chained[r.placement.Target] == r.placement {
		delete(l.chained, r.placement.Target)
	}
	if r.knownKey == nil {
		return
	}
	l.written[r.knownKey.rule]++
	if k, ok := l.known[*r.knownKey]; ok && k == r.known {
		delete(l.known, *r.knownKey)
	}
}
