package tables

// The columns of a job: all, and those of its newest attempt.
const (
	JobColumns   = plainColumns + `, ` + LastColumns
	plainColumns = `id, rule, file, watch, state, event, size, mtime, dev, ino, is_folder, hash, attempts, earlier, taken_at, next_attempt, started_at, ended_at, ran, exit_code, reason, file_now, chain, depth, result, first_event, crashes, old_file`
	// of its newest attempt
	LastColumns = `last, last_started_at, last_ended_at, last_exit_code, last_reason, last_cpu, last_memory, last_output`
)

// Statement is one of the ways in which the writer changes a table. The journal
// keeps its number: a new one comes last.
type Statement byte

const (
	PutJob Statement = iota
	PutAttempt
	PutPlacement
	PutKnown
	DropKnown
	PutMember
	DropMembers
	PutContent
	PutWatched
	PutPause
	PutMount
	DropJob
	DropAttempts
	DropPlacements
	PutCounter
	PutTally
	PutJournal
	DropJournal
	PutTriedJob // a job with its newest attempt: one that has one never goes back to none
	PutBoot
	PutDismissed
	DropDismissed
	PutTicket
	DropTicket
	PutIdentity
	PutFile    // the first file of a batch or group, after another went
	Statements // how many there are
)

// SQL is the text of each statement. The journal keeps it beside the values,
// so that a text may change from one version to the next.
var SQL = [Statements]string{
	PutJob: `INSERT INTO job (` + plainColumns +
		`) VALUES (?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?)` + overJob,
	PutTriedJob: `INSERT INTO job (` + JobColumns + `) VALUES (?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?)` + overJob + `,
		last=excluded.last, last_started_at=excluded.last_started_at, last_ended_at=excluded.last_ended_at, last_exit_code=excluded.last_exit_code, last_reason=excluded.last_reason,
		last_cpu=excluded.last_cpu, last_memory=excluded.last_memory, last_output=excluded.last_output`,
	PutAttempt: `INSERT INTO attempt (job, number, started_at, ended_at, exit_code, reason, cpu, memory, output) VALUES (?,?,?,?,?,?,?,?,?)
		ON CONFLICT (job, number) DO UPDATE SET started_at=excluded.started_at, ended_at=excluded.ended_at, exit_code=excluded.exit_code, reason=excluded.reason,
		cpu=excluded.cpu, memory=excluded.memory, output=excluded.output`,
	PutPlacement: `INSERT INTO placement (job, id, attempt, kind, source, target, is_folder, dev, ino, size, mtime, ctime, after_dev, after_ino, after_size, after_mtime, replaced, kept, chained, state, final_state, mode, made)
		VALUES (?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?)
		ON CONFLICT (job, id) DO UPDATE SET target=excluded.target, state=excluded.state, kind=excluded.kind, dev=excluded.dev, ino=excluded.ino,
		after_dev=excluded.after_dev, after_ino=excluded.after_ino, after_size=excluded.after_size, after_mtime=excluded.after_mtime, replaced=excluded.replaced, kept=excluded.kept, made=excluded.made`,
	PutKnown: `INSERT INTO known (rule, file, size, mtime, dev, ino, is_folder, hash, job) VALUES (?,?,?,?,?,?,?,?,?)
		ON CONFLICT (rule, file) DO UPDATE SET size=excluded.size, mtime=excluded.mtime, dev=excluded.dev, ino=excluded.ino, hash=excluded.hash, job=excluded.job`,
	DropKnown: `DELETE FROM known WHERE rule = ? AND file = ?`,
	PutMember: `INSERT INTO member (job, number, file, companion, size, mtime, dev, ino, file_now) VALUES (?,?,?,?,?,?,?,?,?)
		ON CONFLICT (job, number) DO UPDATE SET file=excluded.file, size=excluded.size, mtime=excluded.mtime, dev=excluded.dev, ino=excluded.ino, file_now=excluded.file_now`,
	DropMembers:    `DELETE FROM member WHERE job = ? AND number >= ?`,
	PutContent:     `INSERT INTO content (rule, hash, job) VALUES (?,?,?) ON CONFLICT (rule, hash) DO NOTHING`,
	PutWatched:     `INSERT INTO watched (rule, folder) VALUES (?,?) ON CONFLICT DO NOTHING`,
	PutPause:       `INSERT INTO pause (rule, paused, since, until) VALUES (?,?,?,?) ON CONFLICT (rule) DO UPDATE SET paused=excluded.paused, since=excluded.since, until=excluded.until`,
	PutMount:       `INSERT INTO mount (folder, point) VALUES (?,?) ON CONFLICT (folder) DO UPDATE SET point=excluded.point`,
	DropJob:        `DELETE FROM job WHERE id = ?`,
	DropAttempts:   `DELETE FROM attempt WHERE job = ?`,
	DropPlacements: `DELETE FROM placement WHERE job = ?`,
	PutCounter:     `UPDATE counter SET value = max(value, ?) WHERE name = 'placement'`,
	PutTally:       `INSERT INTO tally (rule, state, jobs) VALUES (?,?,?) ON CONFLICT (rule, state) DO UPDATE SET jobs = jobs + excluded.jobs`,
	PutJournal:     `INSERT INTO journal (id, statements, rows) VALUES (?,?,?)`,
	PutBoot:        `INSERT INTO boot (one, id) VALUES (1, ?) ON CONFLICT (one) DO UPDATE SET id = excluded.id`,
	DropJournal:    `DELETE FROM journal WHERE id = ?`,
	PutDismissed:   `INSERT INTO dismissed (job, attempts) VALUES (?,?) ON CONFLICT (job) DO UPDATE SET attempts=excluded.attempts`,
	DropDismissed:  `DELETE FROM dismissed WHERE job = ?`,
	PutTicket:      `INSERT INTO ticket (ticket, job, attempt, step, pool, content, handed_at) VALUES (?,?,?,?,?,?,?) ON CONFLICT (ticket) DO NOTHING`,
	DropTicket:     `DELETE FROM ticket WHERE ticket = ?`,
	PutFile:        `UPDATE job SET file = ? WHERE id = ?`,
	PutIdentity:    `INSERT INTO identity (one, id) VALUES (1, ?) ON CONFLICT (one) DO NOTHING`,
}

const overJob = ` ON CONFLICT (id) DO UPDATE SET rule=excluded.rule, state=excluded.state, event=excluded.event, size=excluded.size, mtime=excluded.mtime, dev=excluded.dev, ino=excluded.ino,
	hash=excluded.hash, attempts=excluded.attempts, earlier=excluded.earlier, next_attempt=excluded.next_attempt, started_at=excluded.started_at, ended_at=excluded.ended_at, ran=excluded.ran,
	exit_code=excluded.exit_code, reason=excluded.reason, file_now=excluded.file_now, result=excluded.result, crashes=excluded.crashes`
