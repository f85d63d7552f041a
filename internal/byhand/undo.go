package byhand

import (
	"cmp"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/take"
	"stilltide/internal/held"
	"stilltide/internal/ledger"
	"stilltide/internal/place"
	"stilltide/internal/watchfs"
	"stilltide/internal/work"
)

// undone is the reason of a job that was undone.
const undone = "it was undone: its files are back where they came from"

// Newest returns the number of the newest placement of each job that can be undone, 0 if there is none.
func Newest(l *ledger.Ledger, ids []int64) (map[int64]int64, error) {
	newest := map[int64]int64{}
	for _, id := range ids {
		all, err := l.Placements(id)
		if err != nil {
			return nil, err
		}
		if list := Undoable(all); len(list) > 0 {
			newest[id] = list[0].ID
		}
	}
	return newest, nil
}

// UndoEach undoes several jobs, the one that has placed something last first (see Newest). What jobs have placed
// in turn may rely on each other, so those that another one blocked are tried again as long as that helps. undo
// is Undo, or the running watcher's.
func UndoEach(ids []int64, newest map[int64]int64, undo func(ids []int64) ([]Sent, error)) ([]Sent, error) {
	ids = slices.Clone(ids)
	slices.SortFunc(ids, func(a, b int64) int { return cmp.Or(cmp.Compare(newest[b], newest[a]), cmp.Compare(b, a)) })
	ids = slices.Compact(ids)
	var all []Sent
	for {
		sent, err := undo(ids)
		if err != nil {
			return all, err
		}
		refused := sent[:0:0]
		ids = nil
		for _, s := range sent {
			if s.Done {
				all = append(all, s)
			} else {
				refused, ids = append(refused, s), append(ids, s.ID)
			}
		}
		if len(refused) == 0 || len(refused) == len(sent) {
			return append(all, refused...), nil
		}
	}
}

// Undo puts back what a job placed while no watcher runs. set has the rules as they are now.
func Undo(l *ledger.Ledger, set *plan.Set, id int64) Sent {
	if err := finishRetries(l); err != nil {
		return Sent{ID: id, Reason: err.Error()}
	}
	row, err := JobByID(l, id)
	if err != nil {
		return Sent{ID: id, Reason: err.Error()}
	}
	return UndoJob(l, &place.Placer{}, set, row)
}

// UndoJob undoes a job's placements, newest first: all of them or none.
func UndoJob(l Records, placer *place.Placer, set *plan.Set, row job.Job) Sent {
	fail := func(err error) Sent { return Sent{ID: row.ID, Reason: err.Error()} }
	switch {
	case row.State == job.Running:
		return fail(errors.New("the job is still active (running); it can be undone when it is over"))
	case !row.State.Final():
		return fail(fmt.Errorf("the job is still active (%s); stilltide cancel %d ends it", row.State, row.ID))
	}
	if err := l.Flush(); err != nil {
		return fail(err)
	}
	if err := areFree(l, row); err != nil {
		return fail(err)
	}
	if _, err := settleEarlier(l, placer, &row); err != nil { // only now: another job may have the file
		return fail(err)
	}
	all, err := l.Placements(row.ID)
	if err != nil {
		return fail(err)
	}
	list := Undoable(all)
	if len(list) == 0 {
		return fail(errors.New("there is nothing to undo: it placed nothing, or that was undone already"))
	}
	if err := canUndoAll(l, placer, row, list); err != nil {
		return fail(fmt.Errorf("nothing was touched: %w", err))
	}
	resumed, err := beginUndo(l, list)
	if err != nil {
		return fail(err)
	}
	now := work.Changes{}
	entire, rests := pointers(list), []string(nil)
	for i := range list {
		left, err := undoOne(l, placer, now, &row, entire, i, resumed[i])
		rests = append(rests, left...)
		if err != nil {
			onTheirWay(l, set, row, list[:i])
			leaveUndone(l, list[i:])
			return fail(fmt.Errorf("%w; %d of %d placements were undone; run undo again to continue", err, i,
				len(list)))
		}
	}
	if err := settleUndone(l, set, row, list); err != nil {
		return fail(err)
	}
	done := fmt.Sprintf("undone: %s in %s", countOf(len(list), "placement"), plan.Display(filepath.Dir(row.File)))
	return Sent{ID: row.ID, Done: true, Reason: strings.Join(append([]string{done}, rests...), "; ")}
}

// CanUndo returns why an undo of a job that is over would be refused, as far as that is seen now.
func CanUndo(l Records, row job.Job, list []job.Placement) error {
	if err := areFree(l, row); err != nil {
		return err
	}
	return canUndoAll(l, &place.Placer{}, row, list)
}

func countOf(n int, word string) string {
	if n == 1 {
		return "1 " + word + " taken back; the input is"
	}
	return fmt.Sprintf("%d %ss taken back; the input is", n, word)
}

// Undoable lists what a job placed since it was last retried by hand, newest first.
func Undoable(all []job.Placement) []job.Placement {
	var list []job.Placement
	for i := len(all) - 1; i >= 0; i-- {
		if all[i].FinalState == job.Queued && all[i].State == job.Done {
			break
		}
		if all[i].State == job.Done || all[i].State.GoingBack() {
			list = append(list, all[i])
		}
	}
	return list
}

// Stays returns an error if what a placement put somewhere is to stay there.
func Stays(l Records, p *job.Placement, all []*job.Placement) error {
	if err := work.LastOf(l, l.Folder(), p, all, watchfs.LookAny); err != nil {
		return err
	}
	return work.Relied(l, p)
}

// takenLater names the later job that took a placed file.
func takenLater(l Records, row job.Job, p *job.Placement) (string, error) {
	jobs, err := l.Jobs(job.Filter{File: p.Target, After: row.ID})
	if err != nil {
		return "", err
	}
	for _, j := range jobs {
		if f, _, ok := j.Took(p.Target); !ok || f.Ino != p.After.Ino {
			continue // another file that lay there, before this one or after it
		}
		if !j.State.Final() {
			return fmt.Sprintf("job %d (%s) has %s and is still active", j.ID, j.Rule, p.Target), nil
		}
		all, err := l.Placements(j.ID)
		if err != nil {
			return "", err
		}
		if len(Undoable(all)) > 0 {
			return fmt.Sprintf("job %d (%s) took %s; undo that first", j.ID, j.Rule, p.Target), nil
		}
	}
	return "", nil
}

// beginUndo makes durable that placements are being undone, so that a start after a crash
// goes on. It tells which of them were already.
func beginUndo(l Records, list []job.Placement) (resumed []bool, err error) {
	for i := range list {
		resumed = append(resumed, list[i].State.GoingBack())
		list[i].State = job.Reverting
		l.RecordPlacement(list[i])
	}
	return resumed, l.Flush()
}

// leaveUndone notes that placements stay as they are. One that has its hidden name goes on at the next start.
func leaveUndone(l Records, list []job.Placement) {
	for i := range list {
		if p := &list[i]; !work.IsHidden(p, partOf(l, p)) {
			p.State = job.Done
			l.RecordPlacement(*p)
		}
	}
}

// partOf is the hidden name of what a placement is about.
func partOf(l Records, p *job.Placement) string { return place.PartName(l.Folder(), p.Job, p.Source) }

func pointers(list []job.Placement) []*job.Placement {
	all := make([]*job.Placement, len(list))
	for i := range list {
		all[i] = &list[i]
	}
	return all
}

// undoOne undoes one of a job's placements, which are given newest first.
func undoOne(l Records, placer *place.Placer, now work.Changes, row *job.Job, list []*job.Placement, at int,
	resumed bool) (rests []string, err error) {
	p := list[at]
	if err := now.Undo(placer, p, row.Watch, partOf(l, p), resumed, work.Undoing{
		Stays: func() error { return Stays(l, p, list) },
		Rest:  func(rest *job.Rest) { rests = append(rests, rest.String()) },
	}); err != nil {
		return nil, err
	}
	if p.FinalState == job.Failed {
		if err := removeTraces(placer, row.ID, job.Failed, p.Target, p.Source); err != nil {
			rests = append(rests, err.Error())
		}
		if folder := filepath.Dir(p.Target); work.LookAt(folder, false).Exists {
			held.RemoveMade(folder, p.Made) // the note had kept it
		}
	}
	if before := now.Before(p, list); before != nil {
		l.RecordPlacement(*before) // first, as in takeBack
	}
	p.State = job.Undone
	l.RecordPlacement(*p)
	if p.Target != "" && p.Kind != job.Tagged && p.Kind != job.Duplicate { // of those the target stays where it is
		if err := forgetAll(l, p.Target, p.After.Dir); err != nil {
			return rests, err
		}
	}
	if row.FileNow == p.Target && !p.Kind.Adds() { // true at every stage, should the next one fail
		row.FileNow = p.Source
		l.Record(*row, row.State)
	}
	return rests, work.BackAt(l, p, now[p.Source])
}

// forgetAll has every rule forget a file that was taken back from there, and what lay in it if it was a folder.
func forgetAll(l Records, path string, dir bool) error {
	tally, err := l.Tally()
	for rule := range tally {
		l.Forget(rule, path)
		for after := ""; dir && err == nil; {
			var inside []string
			inside, after, err = l.KnownFiles(rule, path, after)
			for _, file := range inside {
				l.Forget(rule, file)
			}
			if after == "" {
				break
			}
		}
	}
	return err
}

// PutsBack lists the files that the undoing of a job would put back, at the paths that they had: its inputs, what its
// steps took besides, and what it replaced; and the places where they may be meanwhile.
func PutsBack(l Records, row job.Job) (back, places []string, _ error) {
	all, err := l.Placements(row.ID)
	return putBack(row, Undoable(all)), job.Places(all), err
}

func putBack(row job.Job, list []job.Placement) []string {
	paths := []string{row.File}
	for _, m := range row.Extra {
		paths = append(paths, m.File)
	}
	for _, p := range list {
		moved := p.Kind == job.Moved || p.Kind == job.Trashed || p.Kind == job.Duplicate
		if moved && !slices.Contains(paths, p.Source) {
			paths = append(paths, p.Source)
		}
		if p.Replaced && !slices.Contains(paths, p.Target) {
			paths = append(paths, p.Target)
		}
	}
	return paths
}

// settleUndone notes that a job's files are back. They count as handled until
// they change.
func settleUndone(l Records, set *plan.Set, row job.Job, list []job.Placement) error {
	there := map[string]bool{}
	for _, path := range putBack(row, list) {
		is, err := countAsHandled(l, set, row, path)
		if err != nil {
			return err
		}
		there[path] = is
	}
	at := func(path string) string {
		if there[path] {
			return path
		}
		return ""
	}
	row.FileNow = at(row.File)
	for i := range row.Extra {
		m := &row.Extra[i]
		m.FileNow = at(m.File)
	}
	was := row.State
	row.Become(job.Reverted)
	row.Reason, row.Result = undone, ""
	l.Record(row, was)
	return l.Flush()
}

// onTheirWay has the rules know what has come back only in part, under a name that it had among the steps: it goes on
// from there when undo is said again.
func onTheirWay(l Records, set *plan.Set, row job.Job, undone []job.Placement) {
	for _, p := range undone {
		if !p.Kind.Adds() {
			_, _ = countAsHandled(l, set, row, p.Source) // what cannot be looked at is no rule's either
		}
	}
}

// countAsHandled has the job's rule know a file that is back, or the folder that it takes with it, and with it those
// that are asked before that rule: one that shares its files had it when it came, and must not take it once more.
func countAsHandled(l Records, set *plan.Set, row job.Job, path string) (there bool, _ error) {
	facts, err := watchfs.LookAny(path)
	if err != nil || !facts.Exists {
		return false, err
	}
	k := job.Known{Rule: row.Rule, File: path, Facts: facts, Job: row.ID}
	if path == row.File {
		k.Hash = row.Hash
	}
	if slices.Contains(row.Files(), path) {
		l.Remember(k)
	}
	rules, err := take.Candidates(set, path, facts.Dir, nil)
	if mine := slices.IndexFunc(rules, func(c plan.Candidate) bool { return c.Rule.Name.S == row.Rule }); mine >= 0 {
		rules = rules[:mine+1]
	}
	for _, c := range rules {
		if k.Rule = c.Rule.Name.S; c.Unit == path {
			l.Remember(k)
		} else if err == nil {
			err = stillHandled(l, k.Rule, c.Unit)
		}
	}
	return true, err
}

// stillHandled has a rule know a folder as it is now that has something back, if it was done with it before.
func stillHandled(l Records, rule, unit string) error {
	k, is, err := l.Known(rule, unit)
	if err == nil && is {
		if k.Facts, err = watchfs.LookAny(unit); err == nil {
			l.Remember(k)
		}
	}
	return err
}
