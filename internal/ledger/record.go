package ledger

import (
	"time"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/tables"
)

// Record writes a job's row, and those of its further files with it. was is the state that was
// recorded before, "" for a new job; it keeps the tally right.
func (l *Ledger) Record(j job.Job, was job.State) {
	had := l.membersOnTheirWay(j.ID)
	key, r := l.jobRecord(j, was)
	if had+len(j.Extra) == 0 {
		l.w.Add(key, r)
		return
	}
	rows := append([]tables.Keyed{{Key: key, Record: r}}, tables.MemberRecords(j)...)
	l.w.AddTogether(append(rows, tables.LostMembers(j, had)...))
}

// membersOnTheirWay counts the further files of a job of which rows may be on their way to the table.
func (l *Ledger) membersOnTheirWay(id int64) int {
	l.mu.Lock()
	defer l.mu.Unlock()
	if was := l.several[id]; was != nil {
		return len(was.now.Extra)
	}
	return 0
}

// RecordTaken is Record for a new job of one file that has not begun. A crash that
// loses it costs finding the file again, so it may be written late.
func (l *Ledger) RecordTaken(j job.Job) { l.w.AddLate(l.jobRecord(j, "")) }

// RecordEnd is Record for a job that is over and whose input went where its
// recorded placement said. A crash that loses it costs a look at that place, so
// it may be written late. The job is copied.
func (l *Ledger) RecordEnd(j *job.Job, was job.State) {
	if !l.w.Renew(tables.RowKey{Of: tables.JobRow, ID: j.ID}, func(r *tables.Record) {
		l.mu.Lock()
		defer l.mu.Unlock()
		l.tallied(j, was)
		r.Statement, *r.Job = tables.StatementOf(j), *j
	}) {
		l.w.AddLate(l.jobRecord(*j, was))
	}
}

func (l *Ledger) jobRecord(j job.Job, was job.State) (tables.RowKey, *tables.Record) {
	r := &struct {
		tables.Record
		of job.Job
	}{tables.Record{Statement: tables.StatementOf(&j), Was: was}, j}
	r.Job = &r.of
	l.mu.Lock()
	l.noteRecent(r.Job)
	l.tallied(r.Job, was)
	l.mu.Unlock()
	return tables.RowKey{Of: tables.JobRow, ID: j.ID}, &r.Record
}

// severalFiles is a job that has, or had, several files, as it was recorded last.
type severalFiles struct {
	now  *job.Job
	lost []string // files that it had before, of which its rows may still say that it has them
}

// hasFile reports whether a file is one of a job's, or a marker of one.
func hasFile(j *job.Job, path string) bool {
	_, _, ok := j.Took(path)
	return ok
}

// noteRecent keeps a job at hand by all of its files, until it is in its table. The lock is held.
func (l *Ledger) noteRecent(j *job.Job) {
	l.recent[j.File] = j
	for i := range j.Extra {
		l.recent[j.Extra[i].File] = j
	}
	was := l.several[j.ID]
	if was == nil && len(j.Extra) == 0 {
		return
	}
	now := &severalFiles{now: j}
	l.several[j.ID] = now
	if was == nil {
		return
	}
	lose := func(path string) {
		if l.recent[path] == was.now {
			l.recent[path] = j
			now.lost = append(now.lost, path)
		}
	}
	lose(was.now.File)
	for i := range was.now.Extra {
		lose(was.now.Extra[i].File)
	}
	for _, path := range was.lost {
		lose(path)
	}
}

// dropRecent lets go of what noteRecent has kept of a job, as far as nothing newer is there. The lock
// is held.
func (l *Ledger) dropRecent(j *job.Job) {
	drop := func(path string) {
		if l.recent[path] == j {
			delete(l.recent, path)
		}
	}
	drop(j.File)
	for i := range j.Extra {
		drop(j.Extra[i].File)
	}
	if s := l.several[j.ID]; s != nil && s.now == j {
		delete(l.several, j.ID)
		for _, path := range s.lost {
			drop(path)
		}
	}
}

// tallied counts a job in its new state. The lock is held.
func (l *Ledger) tallied(j *job.Job, was job.State) {
	if was == j.State {
		return
	}
	l.tally[tables.TallyKey{Rule: j.Rule, State: j.State}]++
	if was != "" {
		l.tally[tables.TallyKey{Rule: j.Rule, State: was}]--
	}
}

// RecordMembers writes the rows of a job's further files, after Record. A job never gains files; rows
// behind its last are ones that went.
func (l *Ledger) RecordMembers(j job.Job) {
	l.mu.Lock()
	if now := l.recent[j.File]; now != nil && now.ID == j.ID {
		if l.several[j.ID] == nil {
			l.several[j.ID] = &severalFiles{now: now} // it had several
		}
	}
	l.mu.Unlock()
	l.w.AddTogether(tables.MemberRecords(j))
}

// RememberContent notes content that a rule never takes again.
func (l *Ledger) RememberContent(rule, hash string, job int64) {
	l.w.AddNamed(tables.RowName{Of: tables.ContentRow, KnownKey: tables.KnownKey{Rule: rule, File: hash}},
		&tables.Record{Statement: tables.PutContent, Columns: tables.Columns{}.Text(rule, hash).Num(job)})
}

// RecordWatched notes that a rule has watched a folder.
func (l *Ledger) RecordWatched(rule, folder string) {
	l.w.AddNamed(tables.RowName{Of: tables.WatchedRow, KnownKey: tables.KnownKey{Rule: rule, File: folder}},
		&tables.Record{Statement: tables.PutWatched, Columns: tables.Columns{}.Text(rule, folder)})
}

// RecordPause notes that a rule or folder is paused until a time (see job.Pauses), or goes on;
// "" is all rules.
func (l *Ledger) RecordPause(rule string, paused bool, until time.Time) {
	l.w.AddNamed(tables.RowName{Of: tables.PauseRow, KnownKey: tables.KnownKey{Rule: rule}},
		&tables.Record{Statement: tables.PutPause,
			Columns: tables.Columns{}.Text(rule).Flag(paused).Num(tables.Nano(time.Now()), tables.Nano(until))})
}

// RecordDismissed notes that somebody has seen that a job failed. When it fails once more
// after that, nobody has.
func (l *Ledger) RecordDismissed(j job.Job) {
	l.w.Add(tables.RowKey{Of: tables.DismissedRow, ID: j.ID},
		&tables.Record{Statement: tables.PutDismissed, Columns: tables.Columns{}.Num(j.ID, int64(j.Attempts))})
}

// RememberMount notes the mount point that a folder lies on, "" to forget it.
func (l *Ledger) RememberMount(folder, point string) {
	l.w.AddNamed(tables.RowName{Of: tables.MountRow, KnownKey: tables.KnownKey{File: folder}},
		&tables.Record{Statement: tables.PutMount, Columns: tables.Columns{}.Text(folder, point)})
}

// RecordBoot notes in which start of the system the ledger is used.
func (l *Ledger) RecordBoot(id string) {
	l.w.AddNamed(tables.RowName{Of: tables.BootRow}, &tables.Record{Statement: tables.PutBoot,
		Columns: tables.Columns{}.Text(id)})
}

// RecordAttempt writes a row for an attempt that another has followed: the newest
// is in the job's own row.
func (l *Ledger) RecordAttempt(a job.Attempt) {
	l.w.Add(tables.RowKey{Of: tables.AttemptRow, ID: a.Job, Sub: int32(a.Number)},
		&tables.Record{Statement: tables.PutAttempt, Attempt: &a})
}

// RecordPlacement writes a placement's row.
func (l *Ledger) RecordPlacement(p job.Placement) { l.w.Add(l.placementRecord(p)) }

// RecordIntention is RecordPlacement for one that is the ledger's from now on: it
// must not be changed any more.
func (l *Ledger) RecordIntention(p *job.Placement) {
	l.chain(p)
	l.w.Add(tables.RowKey{Of: tables.PlacementRow, ID: p.ID}, &tables.Record{Statement: tables.PutPlacement,
		Placement: p})
}

// RecordPlaced notes that a placement was done just as its intention says, and
// the facts of its target; it may be written late.
func (l *Ledger) RecordPlaced(p *job.Placement, after file.Facts) {
	if !l.w.Renew(tables.RowKey{Of: tables.PlacementRow, ID: p.ID}, func(r *tables.Record) {
		l.mu.Lock()
		defer l.mu.Unlock()
		if r.Placement != p {
			*r.Placement = *p
		}
		r.Placement.Done(after)
	}) {
		done := *p
		done.Done(after)
		l.w.AddLate(l.placementRecord(done))
	}
}

func (l *Ledger) placementRecord(p job.Placement) (tables.RowKey, *tables.Record) {
	r := &struct {
		tables.Record
		of job.Placement
	}{tables.Record{Statement: tables.PutPlacement}, p}
	r.Placement = &r.of
	l.chain(r.Placement)
	return tables.RowKey{Of: tables.PlacementRow, ID: p.ID}, &r.Record
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
func (l *Ledger) settled(list []tables.Written) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, one := range list {
		l.settledOne(one.Record)
	}
}

func (l *Ledger) settledOne(r *tables.Record) {
	if r.Job != nil {
		l.dropRecent(r.Job)
	}
	if r.Placement != nil && l.chained[r.Placement.Target] == r.Placement {
		delete(l.chained, r.Placement.Target)
	}
	if r.KnownKey == nil {
		return
	}
	l.written[r.KnownKey.Rule]++
	if k, ok := l.known[*r.KnownKey]; ok && k == r.Known {
		delete(l.known, *r.KnownKey)
	}
}
