package underway

import (
	"fmt"
	"time"

	"stilltide/internal/core/file"
	"stilltide/internal/core/settle"
)

// A job's file, and everything that its steps place where rules watch, is offered to no
// rule until the job is over. Then it is a chain; what a job that failed placed has been
// taken back by then, so what is still there is another's. A claim goes by path, so that events pass it by, and by
// inode, so that a
// file is known by whatever name it has when it is looked at.

// Claim holds what a job places at a path.
func (js *Jobs) Claim(j *Job, path string, facts file.Facts) {
	for _, key := range []string{path, Inode(facts)} {
		if js.Claims[key] == nil && (key == path || facts.Ino != 0) {
			js.Claims[key] = j
			j.Hold().claimed = append(j.Hold().claimed, key)
		}
	}
}

// claimAt holds what a job has left where rules watch, of an attempt that a crash has cut short: only what was placed
// since the start was announced.
func (js *Jobs) claimAt(j *Job, path string, facts file.Facts) {
	if path != j.Row.File && js.Set.Watched(path) {
		js.Claim(j, path, facts)
		Mark(&j.Hold().Offers, path)
	}
}

// Claimed returns the job that holds a file.
func (js *Jobs) Claimed(path string, facts file.Facts) *Job {
	if len(js.Claims) == 0 {
		return nil
	}
	if j := js.Claims[path]; j != nil {
		return j
	}
	return js.Claims[Inode(facts)]
}

// release ends a job's claims. What it placed well is offered to the rules that watch there.
func (js *Jobs) release(j *Job, now time.Time) {
	held := j.held
	if held == nil {
		return
	}
	for _, key := range held.claimed {
		delete(js.Claims, key)
	}
	held.claimed = nil

	ends := map[string]bool{j.Row.FileNow: true}
	for _, m := range j.Row.Extra {
		ends[m.FileNow] = true
	}
	for path := range held.Offers {
		if path != j.Row.File {
			js.ways.Offer(path, j.Row.Facts.Dir && ends[path], settle.Nudged, now)
		}
	}
}

// askOthers offers the files of a job that stay to the rules before its own, which may have come since it was taken.
func (js *Jobs) askOthers(j *Job, now time.Time) {
	if !j.Others {
		return
	}
	for _, path := range j.Row.Staying() {
		if rules := js.ways.CandidatesOf(path, j.Row.Facts.Dir, now); len(rules) > 0 && rules[0].Rule != j.Rule {
			js.ways.Offer(path, j.Row.Facts.Dir, settle.Nudged, now)
		}
	}
}

// Inode names a file by what a rename does not change.
func Inode(f file.Facts) string { return fmt.Sprintf("%d:%d", f.Dev, f.Ino) }

// suspect notes that a file that came from a rule has changed where it is when its job ends: by that change it is not
// known any more which way it came. Where the change is the job's own, and was seen, no rule takes it for a new file.
func (js *Jobs) suspect(j *Job) {
	path := j.Row.File
	if j.Row.Chain == "" || j.Row.FileNow != path {
		return
	}
	if _, seen := j.Again[path]; seen && js.isOwnWork(j, path) {
		return
	}
	now, err := js.Eyes.Look(path)
	if err == nil && now.Exists && (now.Size != j.Row.Facts.Size || now.Mod != j.Row.Facts.Mod) {
		js.Book.Changed(path, j.Row.Depth)
	}
}
