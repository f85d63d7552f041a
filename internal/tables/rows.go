package tables

import "stilltide/internal/core/job"

// Keyed is a record and the row that it is for.
type Keyed struct {
	Key    RowKey
	Record *Record
}

// KnownKey names what a rule remembers of a file; of rows without a number it is the name.
type KnownKey struct{ Rule, File string }

// Record is what is to be written to one row. What it is made of is kept, not
// its columns: a row that is recorded again before it is written costs little.
type Record struct {
	Statement Statement
	Columns   Columns // unless one of the following is set
	Job       *job.Job
	Was       job.State // job: the state that the table has, "" if it has none
	Placement *job.Placement
	Attempt   *job.Attempt
	Known     *job.Known
	KnownKey  *KnownKey // leaves the memory of what is not yet in its table
}

// Fill adds the values of the row.
func (r *Record) Fill(c Columns) Columns {
	switch {
	case r.Job != nil:
		return jobColumnsOf(c, r.Job)
	case r.Placement != nil:
		return placementColumnsOf(c, r.Placement)
	case r.Attempt != nil:
		return attemptColumnsOf(c, r.Attempt)
	case r.Known != nil:
		return knownColumnsOf(c, r.Known)
	}
	return append(c, r.Columns...)
}

// RowKey names a row that has a number, and perhaps one more below it. It has no
// gaps, so that maps take it as plain memory.
type RowKey struct {
	ID  int64
	Sub int32
	Of  rowKind
}

// RowName names a row that has none.
type RowName struct {
	Of rowKind
	KnownKey
}

// rowKind is what a row is about. Statements that take rows away have kinds of
// their own, so that they do not stand in for rows that are written.
type rowKind int32

const (
	JobRow rowKind = iota
	AttemptRow
	PlacementRow
	membersRow
	MemberRow
	KnownRow
	ContentRow
	WatchedRow
	PauseRow
	MountRow
	BootRow
	DismissedRow
	TicketRow
	ClosedTicket
	IdentityRow
	fileRow
	PrunedDismissed
	PrunedJob
	PrunedAttempts
	PrunedPlacements
	PrunedMembers
)

// StatementOf is the statement that writes a job.
func StatementOf(j *job.Job) Statement {
	if j.Last == nil {
		return PutJob
	}
	return PutTriedJob
}

// MemberRecords are the rows of a job's further files, and that of its first: it is another where the
// one before went.
func MemberRecords(j job.Job) []Keyed {
	list := []Keyed{
		{RowKey{Of: fileRow, ID: j.ID}, &Record{Statement: PutFile, Columns: Columns{}.Text(j.File).Num(j.ID)}},
		{RowKey{Of: membersRow, ID: j.ID},
			&Record{Statement: DropMembers, Columns: Columns{}.Num(j.ID, int64(len(j.Extra)))}}}
	for i, m := range j.Extra {
		f := m.Facts
		values := Columns{}.Num(j.ID, int64(i)).Text(m.File).Flag(m.Companion)
		values = values.Num(f.Size, int64(f.Mod), int64(f.Dev), int64(f.Ino)).place(m.FileNow)
		list = append(list, Keyed{RowKey{Of: MemberRow, ID: j.ID, Sub: int32(i)},
			&Record{Statement: PutMember, Columns: values}})
	}
	return list
}

// LostMembers are rows in the place of those that are perhaps on their way still, of files that a job
// has lost: had is how many further files it had. Without them such a row would come to its table
// after those of its job were taken away there.
func LostMembers(j job.Job, had int) (list []Keyed) {
	for i := len(j.Extra); i < had; i++ {
		list = append(list, Keyed{RowKey{Of: MemberRow, ID: j.ID, Sub: int32(i)},
			&Record{Statement: DropMembers, Columns: Columns{}.Num(j.ID, int64(i))}})
	}
	return list
}

func (r *Record) state() job.State {
	if r.Job == nil {
		return ""
	}
	return r.Job.State
}
