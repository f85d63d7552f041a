package ledger

import (
	"slices"
	"strings"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
)

// A folder is listed in the order of its names, which is also the order of the table of known
// files. So a run of rows is read ahead with one query, and a longer one each time that was of
// use. One query per file took half the time of a sweep in which every file is known.
const (
	fewAhead  = 4   // rows that are read when nothing tells which file is next
	mostAhead = 512 // rows that are read at most: a tenth of a megabyte
	mostRuns  = 32  // rules that rows are kept of
)

// run is a run of rows of one rule in the table of known files. All that the table has
// from one path to another is in it.
type run struct {
	from, to string // the paths, both included
	open     bool   // there is nothing after it
	rows     []job.Known
	found    int // rows that were asked for
}

// ahead keeps the runs that were read last. A row that changes is remembered by the ledger
// until it is in the table; then the runs are read anew.
type ahead struct {
	runs    map[string]*run // by rule
	changed int             // how often the table has changed
}

// forget has the runs read anew, for the table has changed.
func (a *ahead) forget() {
	a.changed++
	clear(a.runs)
}

// answer says what the table has of a file, if a run that was read tells.
func (a *ahead) answer(rule, path string) (found job.Known, is, told bool) {
	r := a.runs[rule]
	if r == nil || path < r.from || !r.open && path > r.to {
		return job.Known{}, false, false
	}
	at, is := slices.BinarySearchFunc(r.rows, path, func(k job.Known, p string) int {
		return strings.Compare(k.File, p)
	})
	if !is {
		return job.Known{}, false, true
	}
	r.found++
	return r.rows[at], true, true
}

// next returns how many rows to read, from a path on: more than before if the last run
// was of use.
func (a *ahead) next(rule, path string) int {
	r := a.runs[rule]
	if r == nil || path <= r.to || r.found*2 < len(r.rows) {
		return fewAhead
	}
	return min(2*len(r.rows), mostAhead)
}

// keep keeps a run, unless the table has changed since it was read.
func (a *ahead) keep(rule string, r *run, changed int) {
	if a.changed != changed {
		return
	}
	if len(a.runs) >= mostRuns {
		clear(a.runs)
	}
	a.runs[rule] = r
}

// readAhead reads a run of rows from a path on.
func (l *Ledger) readAhead(rule, path string, rows int) (*run, error) {
	ask, err := l.ask.known.of(l.db)
	if err != nil {
		return nil, err
	}
	list, err := ask.Query(rule, path, rows)
	if err != nil {
		return nil, err
	}
	defer list.Close()
	r := &run{from: path, to: path}
	for list.Next() {
		k := job.Known{Rule: rule, Facts: file.Facts{Exists: true}}
		var mod, dev, ino int64
		if err := list.Scan(&k.File, &k.Facts.Size, &mod, &dev, &ino, &k.Facts.Dir, &k.Hash, &k.Job); err != nil {
			return nil, err
		}
		k.Facts.Regular = !k.Facts.Dir
		k.Facts.Mod, k.Facts.Dev, k.Facts.Ino = file.Time(mod), uint64(dev), uint64(ino)
		r.rows = append(r.rows, k)
	}
	if r.open = len(r.rows) < rows; !r.open {
		r.to = r.rows[len(r.rows)-1].File
	}
	return r, list.Err()
}
