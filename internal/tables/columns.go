package tables

import (
	"time"

	"stilltide/internal/core/job"
)

// Nano keeps a time as nanoseconds since 1970 (UTC), 0 for none.
func Nano(t time.Time) int64 {
	if t.IsZero() {
		return 0
	}
	return t.UnixNano()
}

// FromNano is the opposite of Nano.
func FromNano(n int64) time.Time {
	if n == 0 {
		return time.Time{}
	}
	return time.Unix(0, n)
}

// column is a value of a row: a whole number, a text, or nothing.
type column struct {
	kind columnKind
	Num  int64
	Text string
}

type columnKind byte

const (
	nothing columnKind = iota
	number
	text
)

// Columns are the values of a row, in the order in which a statement takes them.
type Columns []column

// Num adds whole numbers.
func (c Columns) Num(n ...int64) Columns {
	for _, v := range n {
		c = append(c, column{kind: number, Num: v})
	}
	return c
}

// Text adds texts.
func (c Columns) Text(s ...string) Columns {
	for _, v := range s {
		c = append(c, column{kind: text, Text: v})
	}
	return c
}

// Flag adds 1 for yes, 0 for no.
func (c Columns) Flag(is bool) Columns {
	if is {
		return c.Num(1)
	}
	return c.Num(0)
}

// place is where a file is: nothing if it is nowhere.
func (c Columns) place(path string) Columns {
	if path == "" {
		return append(c, column{})
	}
	return c.Text(path)
}

func (c Columns) exit(n *int) Columns {
	if n == nil {
		return append(c, column{})
	}
	return c.Num(int64(*n))
}

// Args returns the values as a statement takes them.
func (c Columns) Args(to []any) []any {
	for _, v := range c {
		switch v.kind {
		case number:
			to = append(to, v.Num)
		case text:
			to = append(to, v.Text)
		default:
			to = append(to, nil)
		}
	}
	return to
}

// jobColumnsOf begins with the job's number, its rule and, at jobState, its
// state: the journal is read by these.
func jobColumnsOf(c Columns, j *job.Job) Columns {
	f := j.Facts
	c = c.Num(j.ID).Text(j.Rule, j.File, j.Watch, string(j.State), string(j.Event)).Num(f.Size, int64(f.Mod),
		int64(f.Dev), int64(f.Ino)).Flag(f.Dir)
	c = c.Text(j.Hash).Num(int64(j.Attempts), int64(j.Earlier), Nano(j.Taken), Nano(j.Due), Nano(j.Started),
		Nano(j.Ended), int64(j.Ran))
	c = c.exit(j.Exit).Text(j.Reason).place(j.FileNow).Text(j.Chain)
	c = c.Num(int64(j.Depth)).Text(j.Result).Num(Nano(j.Seen), int64(j.Crashes)).Text(j.OldFile)
	if j.Last == nil {
		return c
	}
	return lastColumnsOf(c, j.Last)
}

// JobState is where the state stands among the values of a job.
const JobState = 4

func placementColumnsOf(c Columns, p *job.Placement) Columns {
	f, g := p.Facts, p.After
	c = c.Num(p.Job, p.ID, int64(p.Attempt)).Text(string(p.Kind), p.Source, p.Target).Flag(f.Dir || g.Dir)
	c = c.Num(int64(f.Dev), int64(f.Ino), f.Size, int64(f.Mod), int64(f.Change), int64(g.Dev), int64(g.Ino), g.Size,
		int64(g.Mod))
	return c.Flag(p.Replaced).Text(p.Kept).Flag(p.Chained).Text(string(p.State),
		string(p.FinalState)).Num(int64(f.Mode), int64(p.Made))
}

func attemptColumnsOf(c Columns, a *job.Attempt) Columns { return lastColumnsOf(c.Num(a.Job), a) }

// lastColumnsOf returns what a job's row has of its newest attempt.
func lastColumnsOf(c Columns, a *job.Attempt) Columns {
	c = c.Num(int64(a.Number), Nano(a.Started), Nano(a.Ended)).exit(a.Exit)
	return c.Text(a.Reason).Num(int64(a.CPU), a.Memory).Text(a.Output)
}

func knownColumnsOf(c Columns, k *job.Known) Columns {
	f := k.Facts
	return c.Text(k.Rule, k.File).Num(f.Size, int64(f.Mod), int64(f.Dev),
		int64(f.Ino)).Flag(f.Dir).Text(k.Hash).Num(k.Job)
}
