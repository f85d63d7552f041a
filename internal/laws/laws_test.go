//go:build linux

// Package laws tests the laws of docs/behaviour.md over generated worlds: rules
// files drawn from the whole notation, and the files they meet.
package laws

import (
	"cmp"
	"context"
	"crypto/sha256"
	"errors"
	"flag"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"stilltide/internal/advice"
	"stilltide/internal/byhand"
	"stilltide/internal/core/job"
	"stilltide/internal/core/notation"
	"stilltide/internal/core/rule"
	"stilltide/internal/engine"
	"stilltide/internal/ledger"
	"stilltide/internal/look"
	"stilltide/internal/machine"
)

var (
	seeds = flag.Int("laws.seeds", machine.Worlds(80), "how many worlds the laws are tried in")
	first = flag.Uint64("laws.first", 1, "the first seed")
	seed  = flag.Uint64("laws.seed", 0, "try this one world")
)

// broken is a law that does not hold in a world, and how that shows.
type broken struct{ law, how string }

// law is one law: what it is called, and a check on a world that a sweep went over.
type law struct {
	name  string
	check func(t *testing.T, r *run) string
}

// run is a world and what became of it.
type run struct {
	w         *world
	before    tree
	contents  map[string]bool
	after     tree
	earlier   int       // jobs of a sweep before
	all       []job.Job // those of a sweep before first
	jobs      []job.Job // of this sweep
	goneOn    []int64   // jobs of the sweep before that ended in this one
	atRest    bool      // the next sweep does nothing
	forgotten bool      // the history was removed
	unsettled int       // files that the sweep left to the next
	foreseen  []advice.Foreseen
}

var theLaws = []law{
	{"word and deed", wordAndDeed},
	{"conservation", conservation},
	{"failing", failing},
	{"the last copy", lastCopy},
	{"rest", rest},
	{"memory", remembers},
	{"return", comesBack},
}

func TestLaws(t *testing.T) {
	base := machine.Memory(t)
	from, to := *first, *first+uint64(*seeds)
	if *seed > 0 {
		from, to = *seed, *seed+1
	}
	failures := map[string]int{}
	for s := from; s < to; s++ {
		w := draw(s)
		b := try(t, base, w)
		if b == nil {
			continue
		}
		if failures[b.law]++; failures[b.law] > 2 && *seed == 0 {
			continue
		}
		w, b = shrink(t, base, w, b)
		t.Errorf("seed %d breaks the law of %s: %s\n%sgo test ./internal/laws -run TestLaws -laws.seed=%d", s,
			b.law, b.how, w.describe(), s)
	}
	if len(failures) > 0 {
		t.Logf("worlds in which a law is broken: %v", failures)
	}
}

// try has a sweep go over a world, and asks the laws one after the other.
func try(t *testing.T, base string, w *world) *broken {
	dir, err := os.MkdirTemp(base, "w")
	if err != nil {
		t.Fatal(err)
	}
	defer remove(dir)
	t.Setenv("XDG_DATA_HOME", trashOf(dir))
	w.build(t, dir)
	r, earlier := &run{w: w}, []job.Job(nil)
	if len(w.later) > 0 {
		jobs, whole, err := w.firstDay(t)
		if err != nil {
			return &broken{"running", err.Error()}
		}
		if !whole {
			return nil
		}
		r.earlier = len(jobs)
		earlier = jobs
	}
	if w.has("max_wait:") {
		time.Sleep(4 * time.Millisecond) // for the file system's clock, too
	}
	r.before, r.contents = snapshot(t, dir), contents(t, dir)
	if r.foreseen, err = preview(w); err != nil {
		return &broken{"word and deed", err.Error()}
	}
	if diff := r.before.differences(snapshot(t, dir), true); diff != "" {
		return &broken{"word and deed", "preview changed something: " + diff}
	}
	if r.jobs, r.unsettled, err = sweep(w, w.text()); err != nil {
		return &broken{"running", err.Error()}
	}
	for i, was := range earlier {
		if !was.State.Final() && r.jobs[i].State.Final() {
			r.goneOn = append(r.goneOn, was.ID)
		}
	}
	r.all, r.jobs = r.jobs, r.jobs[r.earlier:]
	r.after = snapshot(t, dir)
	for _, l := range theLaws {
		if how := l.check(t, r); how != "" {
			return &broken{l.name, how + "\n" + r.story()}
		}
	}
	return nil
}

// story reports what the jobs did.
func (r *run) story() string {
	var b strings.Builder
	for _, j := range r.jobs {
		fmt.Fprintf(&b, "job %d: %s took %q: %s, now in %q %s %s\n", j.ID, j.Rule, r.rel(j.File), j.State,
			r.rel(j.FileNow), j.Reason, j.Result)
	}
	return b.String()
}

// placements lists what the jobs placed.
func (r *run) placements(l *ledger.Ledger) string {
	var b strings.Builder
	for _, j := range r.jobs {
		list, _ := l.Placements(j.ID)
		for _, p := range list {
			fmt.Fprintf(&b, "job %d, placement %d: %s %q → %q, %s\n", p.Job, p.ID, p.Kind, r.rel(p.Source),
				r.rel(p.Target), p.State)
		}
	}
	return b.String()
}

func (r *run) rel(text string) string { return strings.ReplaceAll(text, r.w.dir+"/", "") }

// parsed reads the rules of a world.
func (w *world) parsed(text string) (*rule.File, error) {
	f, diags := notation.Parse(filepath.Join(w.dir, rule.FileName), []byte(text))
	if diags.Failed() {
		return nil, fmt.Errorf("the rules have errors: %v", diags)
	}
	return f, nil
}

// sweep goes over a world once, in this process, and gives all its jobs, and how many
// files it left.
func sweep(w *world, rules string) (jobs []job.Job, unsettled int, err error) {
	f, err := w.parsed(rules)
	if err != nil {
		return nil, 0, err
	}
	e, err := engine.Open(engine.Options{Rules: f, Once: true})
	if err != nil {
		return nil, 0, err
	}
	ctx, cancel := context.WithTimeout(context.Background(), 60*time.Second)
	defer cancel()
	err = e.Run(ctx)
	if err == nil && ctx.Err() != nil {
		err = fmt.Errorf("the sweep did not end")
	}
	left, leftErr := e.Left()
	unsettled, err = left.Unsettled, errors.Join(err, leftErr)
	if closeErr := e.Close(); err == nil {
		err = closeErr
	}
	if err != nil {
		return nil, 0, err
	}
	jobs, err = jobsOf(w)
	return jobs, unsettled, err
}

func jobsOf(w *world) ([]job.Job, error) {
	l, err := ledger.Read(filepath.Join(w.dir, ".stilltide"))
	if err != nil {
		return nil, err
	}
	defer l.Close()
	return l.Jobs(job.Filter{Oldest: true})
}

// conservation: every content that was there is there afterwards, but for what a
// step deletes, or a command.
func conservation(t *testing.T, r *run) string {
	return r.lost(contents(t, r.w.dir))
}

// given reports what size the files were that jobs deleted, or whose commands may have
// changed or removed them, before any copy was made.
func (r *run) given() (map[int64]bool, error) {
	if !r.w.has("discard: delete") && !r.w.commands() {
		return nil, nil
	}
	l, err := ledger.Read(filepath.Join(r.w.dir, ".stilltide"))
	if err != nil {
		return nil, err
	}
	defer l.Close()
	jobs, err := l.Jobs(job.Filter{})
	sizes := map[int64]bool{}
	for _, j := range jobs {
		list, err := l.Placements(j.ID)
		if err != nil {
			return nil, err
		}
		copied := map[string]bool{}
		for _, p := range list {
			copied[p.Source] = copied[p.Source] || p.Kind == job.Put && p.State != job.Dropped &&
				p.After.Size == p.Facts.Size && p.After.Ino != p.Facts.Ino && // a hard link changes, too
				(p.Source != j.File || p.Facts.Size == j.Facts.Size) // it is a copy of what a command made of it
		}
		at := strings.Replace(r.rel(j.File), "link/", "in/", 1) // where that leads
		before := int64(len(r.before[at].Content))              // the job may know it by what it has made of it
		for _, size := range []int64{j.Facts.Size, before} {
			sizes[size] = sizes[size] || r.w.commands() && !copied[j.File]
		}
		was := map[string]string{} // by where a file went: where it came from
		for _, p := range list {
			from := cmp.Or(was[p.Source], p.Source)
			if was[p.Target] = from; copied[p.Source] {
				continue // its copy is there
			}
			if p.Kind != job.Deleted || p.State == job.Dropped {
				continue
			}
			sizes[p.Facts.Size] = true
			for path, e := range r.before { // a folder takes along what lies inside
				if strings.HasPrefix(path, r.rel(from)+"/") {
					sizes[int64(len(e.Content))] = true
				}
			}
		}
	}
	return sizes, err
}

// commands reports whether a command of the rules changes or removes its file.
func (w *world) commands() bool { return w.has("run: rm", "echo more >>") }

// lastCopy: what a job has made of a file stays, whatever becomes of the job, if the file
// itself was deleted, or a command took it away or changed it.
func lastCopy(_ *testing.T, r *run) string {
	l, err := ledger.Read(filepath.Join(r.w.dir, ".stilltide"))
	if err != nil {
		return err.Error()
	}
	defer l.Close()
	for _, j := range r.jobs {
		list, err := l.Placements(j.ID)
		if err != nil {
			return err.Error()
		}
		gone := map[string]bool{}
		for _, p := range slices.Backward(list) {
			switch {
			case p.Kind == job.Deleted && p.State == job.Done:
				gone[p.Source] = true
			case p.Kind == job.Put && p.State == job.Undone && gone[p.Source]:
				return fmt.Sprintf("job %d deleted %q and took back what it had made of it, %q", j.ID,
					r.rel(p.Source), r.rel(p.Target))
			}
		}
	}
	return ""
}

func (r *run) lost(have map[string]bool) string {
	given, err := r.given()
	if err != nil {
		return err.Error()
	}
	for path, e := range r.before {
		if given[int64(len(e.Content))] {
			continue
		}
		if e.Kind == "file" && path != rule.FileName && !have[fmt.Sprintf("%x", sha256.Sum256([]byte(e.Content)))] {
			return fmt.Sprintf("the content of %q is gone", path)
		}
	}
	for path := range r.after {
		if strings.HasPrefix(filepath.Base(path), ".stilltide-") {
			return fmt.Sprintf("%q is left over", path)
		}
	}
	return ""
}

// failing: what the steps of a failed job placed was taken back, or its reason says what
// was not.
func failing(_ *testing.T, r *run) string {
	l, err := ledger.Read(filepath.Join(r.w.dir, ".stilltide"))
	if err != nil {
		return err.Error()
	}
	defer l.Close()
	for _, j := range r.jobs {
		if j.State != job.Failed || strings.Contains(j.Reason, "not undone: ") {
			continue
		}
		list, err := l.Placements(j.ID)
		if err != nil {
			return err.Error()
		}
		for _, p := range list {
			if p.FinalState == "" && p.State == job.Done {
				return fmt.Sprintf("job %d failed, and its step's placement stays: %s %q → %q", j.ID, p.Kind,
					r.rel(p.Source), r.rel(p.Target))
			}
		}
	}
	return ""
}

// rest: a second sweep does nothing.
func rest(t *testing.T, r *run) string {
	for _, j := range r.jobs {
		if r.earlier == 0 && slices.Contains(strings.Split(j.Chain, ","), j.Rule) {
			return fmt.Sprintf("one sweep had %s take %q twice", j.Rule, r.rel(j.File))
		}
	}
	if r.w.has("loops: allow", "age:", "echo more") {
		return "" // a file that changed while its job ran counts as new
	}
	if r.unsettled > 0 || r.mayRenew() {
		return "" // a set that is not complete waits for the next sweep
	}
	for _, j := range r.jobs {
		if !j.State.Final() || r.isOwed(j) {
			return ""
		}
	}
	jobs, _, err := sweep(r.w, r.w.text())
	if err != nil {
		return err.Error()
	}
	if jobs = jobs[r.earlier:]; len(jobs) > len(r.jobs) {
		j := jobs[len(r.jobs)]
		return fmt.Sprintf("a second sweep had %s take %q: %s, now in %q %s", j.Rule, r.rel(j.File), j.State,
			r.rel(j.FileNow), j.Reason)
	}
	if diff := r.after.differences(snapshot(t, r.w.dir), true); diff != "" {
		return "a second sweep changed something: " + diff
	}
	r.atRest = true
	return ""
}

// isOwed reports whether what is lost of a job's file may be made by the next sweep only: it was skipped when that was
// found.
func (r *run) isOwed(j job.Job) bool { return j.State == job.Skipped && r.w.has("repair: true") }

// comesBack: undoing all jobs, the newest first, gives everything back, and counts as handled: the next sweep
// leaves it.
func comesBack(t *testing.T, r *run) string {
	all := r.w
	if len(r.goneOn) > 0 { // by the rules of the first day, perhaps
		all = &world{rules: append(slices.Clone(r.w.rules), r.w.first...)}
	}
	if r.forgotten || all.has("discard: delete", "stdout: \"out", "loops: allow") || all.commands() ||
		r.w.isRetried() {
		return ""
	}
	f, err := r.w.parsed(r.w.text())
	if err != nil {
		return err.Error()
	}
	l, err := ledger.Open(filepath.Join(r.w.dir, ".stilltide"), nil)
	if err != nil {
		return err.Error()
	}
	defer l.Close()
	set := look.NewSet(f)
	ids := r.goneOn
	for _, j := range r.jobs {
		if !j.State.Final() {
			return "" // it is held, and so is what it has taken
		}
		ids = append(ids, j.ID)
	}
	newest, err := byhand.Newest(l, ids)
	if err != nil {
		return err.Error()
	}
	sent, err := byhand.UndoEach(ids, newest, func(ids []int64) (sent []byhand.Sent, err error) {
		for _, id := range ids {
			sent = append(sent, byhand.Undo(l, set, id))
		}
		return sent, nil
	})
	if err != nil {
		return err.Error()
	}
	how := ""
	for _, s := range sent {
		if r.earlier > 0 && strings.Contains(s.Reason, "because this has the same content") {
			return "" // a job of before relies on it
		}
		if !s.Done && !strings.Contains(s.Reason, "nothing to undo") {
			how += fmt.Sprintf("job %d cannot be undone: %s\n", s.ID, r.rel(s.Reason))
		}
	}
	if how != "" {
		return how + r.placements(l)
	}
	now, before := snapshot(t, r.w.dir), maps.Clone(r.before)
	for _, all := range []tree{now, before} { // notes stay
		maps.DeleteFunc(all, func(path string, _ entry) bool { return strings.HasSuffix(path, ".failed.txt") })
	}
	if diff := before.differences(now, false); diff != "" {
		return "not all came back: " + diff + "\n" + r.placements(l) + fmt.Sprint(sent)
	}
	return r.staysBack(t, l)
}

// staysBack sweeps once more after all was undone.
func (r *run) staysBack(t *testing.T, l *ledger.Ledger) string {
	if r.unsettled > 0 {
		return "" // a set that is not complete waits for the next sweep
	}
	if r.mayRenew() || slices.ContainsFunc(r.jobs, r.isOwed) {
		return "" // what is put back may be what all is handled again for
	}
	if r.w.has("unit: folder") {
		return "" // what was a place of a rule is somebody's folder again, perhaps with a note in it
	}
	back := snapshot(t, r.w.dir)
	if err := l.Close(); err != nil {
		return err.Error()
	}
	if _, _, err := sweep(r.w, r.w.text()); err != nil {
		return err.Error()
	}
	if diff := back.differences(snapshot(t, r.w.dir), true); diff != "" {
		return "what was undone was handled again: " + diff
	}
	return ""
}
