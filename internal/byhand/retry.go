package byhand

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/take"
	"stilltide/internal/ledger"
	"stilltide/internal/naming"
	"stilltide/internal/place"
	"stilltide/internal/watchfs"
)

// Retry retries a job while no watcher runs: the next one works on it. The set is nil if what the rules take is not
// known.
func Retry(l *ledger.Ledger, set *plan.Set, id int64) Sent {
	was, err := JobByID(l, id)
	if err == nil && set != nil {
		err = StillTaken(l, set, was)
	}
	if err == nil {
		err = finishRetries(l)
	}
	var row job.Job
	var rests []string
	if err == nil {
		row, err = JobByID(l, id)
	}
	if finished := was.State.Final() && !row.State.Final(); err == nil && !finished {
		_, rests, err = SendRound(l, &place.Placer{}, row)
	}
	if err != nil {
		return Sent{ID: id, Reason: err.Error()}
	}
	return Sent{ID: id, Done: true, Reason: strings.Join(append([]string{"queued; the next watch or sweep works " +
		"on it"}, rests...), "; ")}
}

// StillTaken returns an error if the rules, as they are now, do not have a job's rule any more, or that would not take
// its file: a watcher would cancel the job.
func StillTaken(l Records, set *plan.Set, row job.Job) error {
	if set.Rule(row.Rule) == nil {
		return fmt.Errorf("its rule, %s, is no longer in the rules file", row.Rule)
	}
	takes, err := take.Still(set, l, row)
	if err == nil && !takes {
		err = fmt.Errorf("its rule, %s, has changed and no longer takes %s", row.Rule, plan.Display(row.File))
	}
	return err
}

// SendRound puts a job's input back where it came from, removes its failure
// note, and opens the job again. rests says what could not be removed of a folder there.
func SendRound(l Records, placer *place.Placer, row job.Job) (_ job.Job, rests []string, _ error) {
	if !row.State.Final() {
		return row, nil, fmt.Errorf("the job is still active: %s", row.State)
	}
	if err := undoneWhole(l, row); err != nil {
		return row, nil, err
	}
	if err := areFree(l, row); err != nil {
		return row, nil, err
	}
	if _, err := settleEarlier(l, placer, &row); err != nil {
		return row, nil, err
	}
	if row.FileNow == "" {
		return row, nil, fmt.Errorf("its input is no longer there")
	}
	facts, err := watchfs.LookAny(row.FileNow)
	if err != nil {
		return row, nil, err
	}
	if !facts.Exists {
		return row, nil, fmt.Errorf("its input is not in %s any more", plan.Display(row.FileNow))
	}
	if err := ownsInput(l, row); err != nil {
		return row, nil, err
	}
	from, was := row.FileNow, row.State
	r := round{l: l, placer: placer, row: &row}
	if facts, err = r.putBack(row.FileNow, row.File, facts); err != nil {
		return row, nil, err
	}
	if err := r.putBackMembers(); err != nil {
		return row, nil, err
	}
	if err := removeTraces(placer, row.ID, was, from, row.File); err != nil {
		return row, nil, err
	}
	row.Become(job.Queued)
	row.Facts, row.Ended, row.Earlier, row.Crashes = facts, time.Time{}, row.Attempts, 0
	row.Reason, row.Exit, row.FileNow, row.Due = "", nil, row.File, time.Time{}
	l.Record(row, was)
	for _, p := range r.back { // last: until then it is found as one that was cut short
		l.RecordPlacement(p)
	}
	return row, r.rests, nil
}

// undoneWhole returns an error if the undoing of a job was cut short: the next start would
// undo what the new round does.
func undoneWhole(l Records, row job.Job) error {
	placed, err := l.Placements(row.ID)
	if slices.ContainsFunc(placed, func(p job.Placement) bool { return p.State == job.Reverting }) {
		return fmt.Errorf("it was being undone when that was cut short; stilltide undo %d finishes it", row.ID)
	}
	return err
}

// removeTraces removes what lies beside a job's input, or describes it, where that was left:
// a failure note, and what the trash says of it.
func removeTraces(placer *place.Placer, id int64, was job.State, from, to string) error {
	if from != to && filepath.Base(filepath.Dir(from)) == "files" {
		_ = placer.Discard(place.InfoOf(from))
	}
	if was != job.Failed {
		return nil
	}
	return removeNote(naming.NoteOf(from), id)
}

// missingNotes is how many numbers of a name are looked at behind the last note: those of other jobs for the same
// name may have gone before.
const missingNotes = 100

// removeNote removes the failure note of a job, and none of another that failed under the same name.
func removeNote(first string, id int64) error {
	folder, name := filepath.Split(first)
	for n, missing := 1, 0; missing < missingNotes; n++ {
		note := folder + naming.Numbered(name, n)
		text, err := readNote(note)
		switch {
		case errors.Is(err, os.ErrNotExist):
			missing++
		case err != nil:
			return err
		case plan.IsNoteOf(text, id):
			return os.Remove(note)
		default:
			missing = 0
		}
	}
	return nil
}

// longestNote is more than any failure note has, in bytes.
const longestNote = 1 << 20

// readNote reads a failure note; what is none, by its kind or its size, is an empty one.
func readNote(path string) (string, error) {
	info, err := os.Lstat(path)
	if err != nil || !info.Mode().IsRegular() || info.Size() > longestNote {
		return "", err
	}
	text, err := os.ReadFile(path)
	return string(text), err
}

// ownsInput checks that what lies where a job's input was left is that input, and
// not a newer file of the same name.
func ownsInput(l Records, row job.Job) error {
	later, err := l.Jobs(job.Filter{File: row.FileNow, After: row.ID})
	if err != nil {
		return err
	}
	for _, j := range later {
		if f, ok := j.Left(row.FileNow); ok && (f.Size != row.Facts.Size || f.Mod != row.Facts.Mod) {
			return fmt.Errorf("its input is no longer there: %s is the file of job %d now",
				plan.Display(row.FileNow), j.ID)
		}
	}
	return nil
}

// round puts a job's files back for another round.
type round struct {
	l      Records
	placer *place.Placer
	row    *job.Job
	back   []job.Placement // done, but not recorded so
	rests  []string        // what could not be removed of folders that are back
}

// putBackMembers puts the further files of a batch or group back, and markers.
// One that is no longer there stays away.
func (r *round) putBackMembers() error {
	for i := range r.row.Extra {
		m := &r.row.Extra[i]
		if m.FileNow == "" {
			continue
		}
		facts, err := watchfs.Stat(m.FileNow)
		if err != nil {
			return err
		}
		if !facts.Exists {
			m.FileNow = ""
			continue
		}
		if m.Facts, err = r.putBack(m.FileNow, m.File, facts); err != nil {
			return err
		}
		m.FileNow = m.File
	}
	return nil
}

// putBack moves one file from where it is to where it was taken.
func (r *round) putBack(from, to string, facts file.Facts) (file.Facts, error) {
	if from == to {
		return facts, nil
	}
	if err := place.CanComeBack(r.row.Watch); err != nil {
		return facts, err
	}
	if there, err := watchfs.Stat(to); err != nil || there.Exists {
		return facts, errors.Join(err, fmt.Errorf("another file has its place: %s", plan.Display(to)))
	}
	p := job.Placement{ID: r.l.NextPlacement(), Job: r.row.ID, Kind: job.Moved, Source: from,
		Target: to, Facts: facts, After: facts, State: job.Intended, FinalState: job.Queued}
	record := func() error {
		r.l.RecordPlacement(p)
		return r.l.Sync(context.Background())
	}
	if err := record(); err != nil {
		return facts, err
	}
	res, err := r.placer.Move(place.Request{Source: from, To: plan.SpotWithin(r.row.Watch, to), Expect: facts,
		Part: place.PartName(r.l.Folder(), r.row.ID, from),
		Amend: func(s place.Staged) error {
			s.Amend(&p)
			return record()
		}})
	if err != nil {
		if now, lookErr := watchfs.LookAny(from); lookErr == nil && now.Exists {
			p.State = job.Dropped // else it could not be brought back, and the next try, or start, does that
			r.l.RecordPlacement(p)
		}
		return facts, err
	}
	if res.Rest != nil {
		r.rests = append(r.rests, res.Rest.String())
	}
	p.State, p.After = job.Done, res.Facts
	r.back = append(r.back, p)
	if err := forgetAll(r.l, from, facts.Dir); err != nil { // what comes there again is new there
		return facts, err
	}
	if res.Facts.Dir {
		return watchfs.LookTree(to)
	}
	return res.Facts, nil
}
