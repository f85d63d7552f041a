package flow

import (
	"time"

	"stilltide/internal/core/file"
	"stilltide/internal/core/settle"
)

// A job's file, and everything that its steps place where rules watch, is offered to no
// rule until the job is over. Then it is a chain; what a job that failed placed has been
// taken back by then, so what is still there is another's. A claim goes by path, so that events pass it by, and by
// inode, so that a
// file is known by whatever name it has when it is looked at.

// claim holds what a job places at a path.
func (f *Flow) claim(j *Job, path string, facts file.Facts) {
	for _, key := range []string{path, inode(facts)} {
		if f.claims[key] == nil && (key == path || facts.Ino != 0) {
			f.claims[key] = j
			j.hold().claimed = append(j.hold().claimed, key)
		}
	}
}

// claimed returns the job that holds a file.
func (f *Flow) claimed(path string, facts file.Facts) *Job {
	if len(f.claims) == 0 {
		return nil
	}
	if j := f.claims[path]; j != nil {
		return j
	}
	return f.claims[inode(facts)]
}

// release ends a job's claims. What it placed well is offered to the rules that
// watch there.
func (f *Flow) release(j *Job, now time.Time) {
	held := j.held
	if held == nil {
		return
	}
	for _, key := range held.claimed {
		delete(f.claims, key)
	}
	held.claimed = nil

	ends := map[string]bool{j.row.FileNow: true}
	for _, m := range j.row.Extra {
		ends[m.FileNow] = true
	}
	for path := range held.offers {
		if path != j.row.File {
			f.Offer(path, j.row.Facts.Dir && ends[path], settle.Nudged, now)
		}
	}
}
