package work

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/place"
	"stilltide/internal/runner"
	"stilltide/internal/watchfs"
)

// Hopeless is an error that another attempt would meet again.
type Hopeless struct{ Text string }

// Error is the reason.
func (h Hopeless) Error() string { return h.Text }

// Hands are what steps act with: those of the engine record every placement
// before it is made, those of a trial only touch a throwaway folder.
type Hands struct {
	Placer  *place.Placer
	Runner  *runner.Runner
	State   string // folder of scripts, scratch folders and kept content
	Book    Book
	Carrier Carrier     // to other machines, nil if there is none
	Trial   *trialHands // nil for real
	Watch   string      // the watched folder that the job's file was taken from

	Secrets []string // environment variables that commands do not get
}

// Book is the engine's side of a placement.
type Book interface {
	Number() int64                   // of a new placement
	Intend(p []*job.Placement) error // until that is durable
	Did(p *job.Placement)            // how it ended
	// an error if what it placed is relied on, or all that is left
	Stays(p *job.Placement, all []*job.Placement) error
	Answers(path string) error                   // an error if the file system there does not answer
	There(folder string) error                   // an error if the folder's disk is not mounted
	Ours(rule, target string, f file.Facts) bool // whether what lies there is what the rule placed
	MadeFrom(rule, target string) string         // the input of what the rule placed there last, "" for none
	Notice(channel, text string, job plan.Job)   // a notify step
	First(path string) []job.Ahead               // the files that a name is left to
	// whether another job works on a file, perhaps after a while
	Held(path string, wait bool) bool
	// what to say of attributes that a folder cannot hold, once
	Lost(folder string, attributes []string) string
}

// Work is the steps of one attempt under way.
type Work struct {
	Hands
	Job    plan.Job
	Units  []job.Unit
	Output string // file for what is printed
	Placed []*job.Placement
	Notes  []string          // for the job's line
	Fulfil func(path string) // is told of each path where something was placed; may be nil
	Rests  []*job.Rest       // what could not be removed of folders that were moved
	Away   bool              // its commands run on other machines
	Behind bool              // the watcher ends, and a command goes on elsewhere
	By     string            // the machine that ran the last command, "" for this one
	Ran    runner.Result
	Exit   *int
	CPU    time.Duration
	Memory int64

	Printed int64 // bytes in the output file
}

// Problem is why a step failed.
type Problem struct {
	Text     string
	Waits    bool // nothing is wrong with the file: the target's disk is full or away
	Hopeless bool // another attempt would fail for the same reason
	Missing  bool // the rule's program is not there: no file is to blame
}

// Error is the reason.
func (p *Problem) Error() string { return p.Text }

// ProblemOf is the problem that an error tells of, nil for none.
func ProblemOf(err error) *Problem {
	if err == nil {
		return nil
	}
	if p := (*Problem)(nil); errors.As(err, &p) {
		return p
	}
	full := errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT)
	return &Problem{Text: err.Error(), Waits: full || errors.Is(err, ErrDiskAway) ||
		errors.As(err, new(plan.NoAnswer)) || errors.Is(err, job.ErrHeld), Hopeless: place.Final(err) ||
		errors.As(err, new(Hopeless))}
}

// ended says why a step failed that was ended.
func (w *Work) ended(ctx context.Context, s *rule.Step, err error) *Problem {
	p := ProblemOf(err)
	if errors.Is(err, job.ErrStopped) && ctx.Err() != nil {
		p.Text = whyEnded(ctx, w.Job.Rule)
		if context.Cause(ctx) == context.DeadlineExceeded {
			p.Text = fmt.Sprintf("it timed out after %s", plan.Span(s.Timeout.Duration))
		}
	}
	return p
}

// as returns the job as it is for one of its files.
func (w *Work) as(u *job.Unit) plan.Job {
	j := w.Job
	if w.Job.Files != nil {
		j.File, j.Facts, j.Captures, j.Files = u.Taken, u.Facts, u.Captures, nil
	}
	j.At = u.At
	return j
}

// Placing begins the record of a placement; the request's Stage completes it.
func (w *Work) Placing(kind job.Kind, source string, before file.Facts, req *place.Request,
	same rule.SameName) *[]*job.Placement {
	list := &[]*job.Placement{}
	if w.passing(req.To.Folder()) {
		req.Source, req.Root, req.Expect, req.Part, req.Same = source, w.Job.Watch, before, w.part(source),
			rule.SameReplace
		req.Kept = filepath.Join(w.Job.Scratch, ".replaced")
		return list // the scratch folder goes with the attempt: there is nothing to undo
	}
	if kind == job.Moved && w.passing(filepath.Dir(source)) {
		kind = job.Put // undone by removing it: where it came from is gone by then
	}
	id := w.Book.Number()
	req.Source, req.Root, req.Expect, req.Part, req.Same = source, w.Job.Watch, before, w.part(source), same
	req.Kept = KeptPath(w.State, id)
	req.Held = func(path string) bool { return w.Book.Held(path, same == rule.SameReplace) }
	if req.To.Name != "" {
		req.First = w.Book.First(req.To.Path())
	}
	req.Stage = func(staged []place.Staged) error {
		for i, s := range staged {
			if i == len(*list) {
				p := &job.Placement{ID: id, Job: w.Job.ID, Attempt: w.Job.Attempt, Source: source, Facts: before,
					State: job.Intended, Chained: true}
				if i > 0 {
					p.ID = w.Book.Number()
				}
				*list = append(*list, p)
				w.Placed = append(w.Placed, p)
			}
			p := (*list)[i]
			p.Kind, p.Target, p.After, p.Replaced, p.Made = kind, s.Target, s.Facts, s.Replaced, s.Made
			if s.Duplicate {
				p.Kind = job.Duplicate
			}
			if p.Kept = ""; s.Replaced {
				p.Kept = cmp.Or(s.Kept, req.Kept)
			}
		}
		return w.Book.Intend(*list)
	}
	return list
}

// passing reports whether a folder is the attempt's own, or lies in it.
func (w *Work) passing(folder string) bool {
	return w.Job.Scratch != "" && (folder == w.Job.Scratch || strings.HasPrefix(folder,
		w.Job.Scratch+string(filepath.Separator)))
}

func (w *Work) part(source string) string { return place.PartName(w.State, w.Job.ID, source) }

// Done completes the records of a placement that went well.
func (w *Work) Done(list []*job.Placement, results ...place.Result) {
	if len(results) > 0 && results[0].Target != "" {
		w.Job.Placed = results[0].Target
	}
	for i, p := range list {
		if i < len(results) && (results[i].Here || results[i].Same && p.Kind.Adds()) {
			p.State = job.Dropped // it was there: nothing was made
			w.Book.Did(p)
			continue
		}
		if i < len(results) && results[i].Facts.Exists {
			p.Target, p.After = results[i].Target, results[i].Facts
		}
		p.State = job.Done
		w.Book.Did(p)
		w.changed(p)
	}
	for _, r := range results {
		if r.Rest != nil {
			w.Rests = append(w.Rests, r.Rest)
		}
		if len(r.Lost) > 0 {
			w.Note(w.Book.Lost(filepath.Dir(r.Target), r.Lost))
		}
	}
}

// changed looks again at a folder of the job's in which a placement of its own has
// changed something.
func (w *Work) changed(p *job.Placement) {
	for i := range w.Units {
		u := &w.Units[i]
		below := u.At + string(filepath.Separator)
		if !u.Facts.Dir || u.At == "" || !strings.HasPrefix(p.Source, below) && !strings.HasPrefix(p.Target,
			below) {
			continue
		}
		if facts, err := watchfs.LookTree(u.At); err == nil && facts.Exists {
			u.Facts = facts
		}
	}
}

// PlacedAt tells whoever wants to know that something has got its place.
func (w *Work) PlacedAt(path string) {
	if w.Fulfil != nil {
		w.Fulfil(path)
	}
}

// Note adds to what the line of the job says.
func (w *Work) Note(text string) {
	if text != "" && !slices.Contains(w.Notes, text) {
		w.Notes = append(w.Notes, text)
	}
}

// Gone drops the records of a placement whose source went before it was made: what
// lies at its target now is somebody else's.
func (w *Work) Gone(list []*job.Placement, err error) error {
	if errors.Is(err, job.ErrGone) {
		for _, p := range list {
			w.Drop(p)
		}
	}
	return err
}

// Left reports whether a placement was left out on purpose (same_name: skip).
func (w *Work) Left(err error) bool {
	if errors.Is(err, job.ErrSkipped) {
		w.Note(err.Error())
		return true
	}
	return false
}

// Spot fills a destination; in a trial it lies below the throwaway folder.
func (w *Work) Spot(s *rule.Step, j plan.Job, source string) (plan.Spot, error) {
	spot, err := j.Spot(s, source)
	if err != nil {
		return spot, err
	}
	return w.real(spot)
}

func (w *Work) real(spot plan.Spot) (plan.Spot, error) {
	if w.Trial != nil {
		return w.Trial.spot(spot), nil
	}
	return spot, w.Book.There(spot.Folder())
}

// Follow lets later steps see where a single file is.
func (w *Work) Follow(u *job.Unit) {
	if w.Job.Files != nil {
		for i := range w.Units {
			w.Job.Files[i] = w.Units[i].At
		}
		return
	}
	w.Job.At = u.At
}

// WentTo follows the job's own file where a step took it that named it by its path.
func (w *Work) WentTo(from, to string, facts file.Facts) {
	for i := range w.Units {
		if u := &w.Units[i]; u.At == from && from != to {
			u.At, u.Facts = to, facts
			w.Follow(u)
		}
	}
}

// Trying reports whether the steps are only tried, in a throwaway folder.
func (w *Work) Trying() bool { return w.Trial != nil }

// Tell prints a line in a trial.
func (w *Work) Tell(format string, args ...any) {
	if w.Trial != nil {
		text := fmt.Sprintf(format, args...)
		for _, inner := range []string{"copy", "placed"} { // the real path that it stands for
			text = strings.ReplaceAll(text, filepath.Join(w.Trial.folder, inner)+string(filepath.Separator),
				string(filepath.Separator))
		}
		fmt.Fprintf(w.Trial.out, "  %s\n", text)
	}
}

// ErrDiskAway says that a destination's disk is not mounted.
var ErrDiskAway = errors.New("its disk is not mounted")
