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

	"github.com/dustin/go-humanize"

	"stilltide/internal/core/file"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/ledger"
	"stilltide/internal/place"
	"stilltide/internal/runner"
	"stilltide/internal/watchfs"
)

// Hands are what steps act with: those of the engine record every placement
// before it is made, those of a trial only touch a throwaway folder.
type Hands struct {
	Placer *place.Placer
	Runner *runner.Runner
	State  string // folder of scripts, scratch folders and kept content
	Book   Book
	trial  *trialHands // nil for real
	Watch  string      // the watched folder that the job's file was taken from

	Secrets []string // environment variables that commands do not get
}

// Book is the engine's side of a placement.
type Book interface {
	Number() int64                                            // of a new placement
	Intend(p []*ledger.Placement) error                       // until that is durable
	Did(p *ledger.Placement)                                  // how it ended
	Stays(p *ledger.Placement, job []*ledger.Placement) error // an error if what it placed is relied on, or all that is left
	There(folder string) error                                // an error if the folder's disk is not mounted
	Ours(rule, target string, f file.Facts) bool              // whether what lies there is what the rule placed
	Notice(channel, text string, job plan.Job)                // a notify step
	First(path string) []place.Ahead                          // the files that a name is left to
	Held(path string, wait bool) bool                         // whether another job works on a file, perhaps after a while
	Lost(folder string, attributes []string) string           // what to say of attributes that a folder cannot hold, once
}

// Unit is one file of a job and where it is now.
type Unit struct {
	Taken    string
	At       string // "" if it is nowhere
	Facts    file.Facts
	Captures map[string]string
}

// Work is the steps of one attempt under way.
type Work struct {
	Hands
	Job    plan.Job
	Units  []Unit
	Output string // file for what is printed
	Placed []*ledger.Placement
	Notes  []string          // for the job's line
	Fulfil func(path string) // is told of each path where something was placed; nil for nobody
	Rests  []*place.Rest     // what could not be removed of folders that were moved
	run    runner.Result
	Exit   *int
	CPU    time.Duration
	Memory int64

	printed int64 // bytes in the output file
}

// Problem is why a step failed.
type Problem struct {
	Text     string
	Waits    bool // nothing is wrong with the file: the target's disk is full or away
	Hopeless bool // another attempt would fail for the same reason
}

func problemOf(err error) *Problem {
	if err == nil {
		return nil
	}
	full := errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT)
	return &Problem{Text: err.Error(), Waits: full || errors.Is(err, ErrDiskAway) || errors.Is(err, place.ErrHeld), Hopeless: place.Final(err) || errors.As(err, new(hopeless))}
}

// Step does one step.
func (w *Work) Step(ctx context.Context, s *rule.Step) *Problem {
	applies, err := w.Job.Applies(s)
	if err != nil || !applies {
		return problemOf(err)
	}
	if t := s.Timeout.Duration; t > 0 && !s.Runs() {
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeout(ctx, t)
		defer cancel()
	}
	placer := *w.Placer
	placer.Cancel = ctx.Done()
	defer func(was *place.Placer) { w.Placer = was }(w.Placer)
	w.Placer = &placer
	switch s.Verb() {
	case "run", "script":
		return w.program(ctx, s)
	case "write":
		return problemOf(w.write(s))
	case "tell":
		return problemOf(w.notify(s))
	case "move", "copy", "discard":
		if len(s.From) > 0 {
			return w.ended(ctx, s, w.others(s))
		}
	}
	for i := range w.Units {
		if err := w.one(ctx, s, &w.Units[i]); err != nil {
			return w.ended(ctx, s, err)
		}
	}
	return nil
}

// ended says why a step failed that was ended.
func (w *Work) ended(ctx context.Context, s *rule.Step, err error) *Problem {
	p := problemOf(err)
	if errors.Is(err, place.ErrStopped) && ctx.Err() != nil {
		p.Text = whyEnded(ctx, w.Job.Rule)
		if context.Cause(ctx) == context.DeadlineExceeded {
			p.Text = fmt.Sprintf("it timed out after %s", plan.Span(s.Timeout.Duration))
		}
	}
	return p
}

// as returns the job as it is for one of its files.
func (w *Work) as(u *Unit) plan.Job {
	j := w.Job
	if w.Job.Files != nil {
		j.File, j.Facts, j.Captures, j.Files = u.Taken, u.Facts, u.Captures, nil
	}
	j.At = u.At
	return j
}

// one does a step that places or sends one of the job's files.
func (w *Work) one(ctx context.Context, s *rule.Step, u *Unit) error {
	j := w.as(u)
	if s.Verb() == "mirror" {
		return w.mirror(s, u, j)
	}
	if u.At == "" {
		if j.Event == file.Removed {
			return fmt.Errorf("%s was removed, so there is nothing to %s; where: event != \"removed\" leaves the step out then", plan.Display(u.Taken), s.Verb())
		}
		return fmt.Errorf("an earlier step has discarded the file")
	}
	switch s.Verb() {
	case "move", "rename":
		return w.move(s, u, j)
	case "copy":
		return w.copy(s, j, u.At, u.Facts)
	case "replace_with":
		return w.replace(s, u, j)
	case "discard":
		return w.discard(s, u)
	case "unpack":
		return w.unpack(s, u, j)
	case "tag":
		return w.tag(s, u, j)
	}
	return w.post(ctx, s, u, j)
}

// placing begins the record of a placement; the request's Stage completes it.
func (w *Work) placing(kind place.Kind, source string, before file.Facts, req *place.Request, same rule.SameName) *[]*ledger.Placement {
	list := &[]*ledger.Placement{}
	if w.passing(req.To.Folder()) {
		req.Source, req.Root, req.Expect, req.Part, req.Same = source, w.Job.Watch, before, w.part(), rule.SameReplace
		req.Kept = filepath.Join(w.Job.Scratch, ".replaced")
		return list // the scratch folder goes with the attempt: there is nothing to undo
	}
	if kind == place.Moved && w.passing(filepath.Dir(source)) {
		kind = place.Put // undone by removing it: where it came from is gone by then
	}
	id := w.Book.Number()
	req.Source, req.Root, req.Expect, req.Part, req.Same = source, w.Job.Watch, before, w.part(), same
	req.Kept = KeptPath(w.State, id)
	req.Held = func(path string) bool { return w.Book.Held(path, same == rule.SameReplace) }
	if req.To.Name != "" {
		req.First = w.Book.First(req.To.Path())
	}
	req.Stage = func(staged []place.Staged) error {
		for i, s := range staged {
			if i == len(*list) {
				p := &ledger.Placement{ID: id, Job: w.Job.ID, Attempt: w.Job.Attempt, Source: source, Facts: before, State: ledger.Intended, Chained: true}
				if i > 0 {
					p.ID = w.Book.Number()
				}
				*list = append(*list, p)
				w.Placed = append(w.Placed, p)
			}
			p := (*list)[i]
			p.Kind, p.Target, p.After, p.Replaced, p.Made = string(kind), s.Target, s.Facts, s.Replaced, s.Made
			if s.Duplicate {
				p.Kind = string(place.Duplicate)
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
	return w.Job.Scratch != "" && (folder == w.Job.Scratch || strings.HasPrefix(folder, w.Job.Scratch+string(filepath.Separator)))
}

func (w *Work) part() string { return place.PartName(w.State, w.Job.ID) }

// done completes the records of a placement that went well.
func (w *Work) done(list []*ledger.Placement, results ...place.Result) {
	if len(results) > 0 && results[0].Target != "" {
		w.Job.Placed = results[0].Target
	}
	for i, p := range list {
		if i < len(results) && (results[i].Here || results[i].Same && p.Kind == string(place.Put)) {
			p.State = ledger.Dropped // it was there: nothing was made
			w.Book.Did(p)
			continue
		}
		if i < len(results) && results[i].Facts.Exists {
			p.Target, p.After = results[i].Target, results[i].Facts
		}
		p.State = ledger.Done
		w.Book.Did(p)
		w.changed(p)
	}
	for _, r := range results {
		if r.Rest != nil {
			w.Rests = append(w.Rests, r.Rest)
		}
		if len(r.Lost) > 0 {
			w.note(w.Book.Lost(filepath.Dir(r.Target), r.Lost))
		}
	}
}

// changed looks again at a folder of the job's in which a placement of its own has
// changed something.
func (w *Work) changed(p *ledger.Placement) {
	for i := range w.Units {
		u := &w.Units[i]
		below := u.At + string(filepath.Separator)
		if !u.Facts.Dir || u.At == "" || !strings.HasPrefix(p.Source, below) && !strings.HasPrefix(p.Target, below) {
			continue
		}
		if facts, err := watchfs.LookTree(u.At); err == nil && facts.Exists {
			u.Facts = facts
		}
	}
}

// placedAt tells whoever wants to know that something has got its place.
func (w *Work) placedAt(path string) {
	if w.Fulfil != nil {
		w.Fulfil(path)
	}
}

func (w *Work) note(text string) {
	if text != "" && !slices.Contains(w.Notes, text) {
		w.Notes = append(w.Notes, text)
	}
}

// gone drops the records of a placement whose source went before it was made: what
// lies at its target now is somebody else's.
func (w *Work) gone(list []*ledger.Placement, err error) error {
	if errors.Is(err, place.ErrGone) {
		for _, p := range list {
			w.drop(p)
		}
	}
	return err
}

// left reports whether a placement was left out on purpose (same_name: skip).
func (w *Work) left(err error) bool {
	if errors.Is(err, place.ErrSkipped) {
		w.note(err.Error())
		return true
	}
	return false
}

// spot fills a destination; in a trial it lies below the throwaway folder.
func (w *Work) spot(s *rule.Step, j plan.Job, source string) (plan.Spot, error) {
	spot, err := j.Spot(s, source)
	if err != nil {
		return spot, err
	}
	return w.real(spot)
}

func (w *Work) real(spot plan.Spot) (plan.Spot, error) {
	if w.trial != nil {
		return w.trial.spot(spot), nil
	}
	return spot, w.Book.There(spot.Folder())
}

// move moves or renames one of the job's files, and follows it.
func (w *Work) move(s *rule.Step, u *Unit, j plan.Job) error {
	to, err := w.spot(s, j, u.At)
	if err != nil {
		return err
	}
	req := place.Request{To: to}
	list := w.placing(place.Moved, u.At, u.Facts, &req, s.SameName)
	res, err := w.Placer.Move(req)
	if w.left(err) {
		return nil
	}
	if err != nil {
		return w.gone(*list, err)
	}
	w.done(*list, res)
	w.placedAt(to.Path())
	if res.Here {
		return nil
	}
	w.tell("%s would be moved to %s", filepath.Base(u.At), res.Target)
	u.At, u.Facts = res.Target, res.Facts
	w.follow(u)
	return nil
}

// follow lets later steps see where a single file is.
func (w *Work) follow(u *Unit) {
	if w.Job.Files != nil {
		for i := range w.Units {
			w.Job.Files[i] = w.Units[i].At
		}
		return
	}
	w.Job.At = u.At
}

func (w *Work) copy(s *rule.Step, j plan.Job, source string, facts file.Facts) error {
	to, err := w.spot(s, j, source)
	if err != nil {
		return err
	}
	return w.copyTo(to, source, facts, s.SameName, nil)
}

func (w *Work) copyTo(to plan.Spot, source string, facts file.Facts, same rule.SameName, ours func(string, file.Facts) bool) error {
	req := place.Request{To: to, Ours: ours}
	list := w.placing(place.Put, source, facts, &req, same)
	res, err := w.Placer.Copy(req)
	if w.left(err) {
		return nil
	}
	if err != nil {
		return err
	}
	w.done(*list, res)
	w.placedAt(to.Path())
	if res.Here {
		return nil
	}
	if res.Same {
		w.note("its content was already in " + res.Target)
		w.tell("%s has that content already", res.Target)
		return nil
	}
	w.tell("would be copied to %s", res.Target)
	return nil
}

// others does a step on the files that from names.
func (w *Work) others(s *rule.Step) error {
	j := w.Job
	globs, err := j.Sources(s)
	if err != nil {
		return err
	}
	for _, glob := range globs {
		paths, err := filepath.Glob(glob)
		if err != nil {
			return fmt.Errorf("from: %s is not a pattern: %w", glob, err)
		}
		paths = slices.DeleteFunc(paths, func(path string) bool { return plan.Hidden(filepath.Base(path)) })
		if len(paths) == 0 {
			return fmt.Errorf("from: there is no %s", plan.Display(glob))
		}
		for _, path := range paths {
			if err := w.other(s, j, path); err != nil {
				return err
			}
		}
	}
	return nil
}

func (w *Work) other(s *rule.Step, j plan.Job, path string) error {
	facts, err := watchfs.Stat(path)
	if err == nil && facts.Dir {
		facts, err = watchfs.LookTree(path)
	}
	if err == nil && !facts.Exists {
		err = fmt.Errorf("%s: %w", plan.Display(path), place.ErrGone) // another job was quicker
	}
	if err != nil {
		return err
	}
	if s.Verb() == "copy" {
		return w.copy(s, j, path, facts)
	}
	if s.Verb() == "discard" {
		u := Unit{Taken: path, At: path, Facts: facts}
		err := w.throwAway(s, &u)
		w.wentTo(path, u.At, u.Facts)
		return err
	}
	to, err := w.spot(s, j, path)
	if err != nil {
		return err
	}
	req := place.Request{To: to}
	list := w.placing(place.Moved, path, facts, &req, s.SameName)
	res, err := w.Placer.Move(req)
	if err == nil {
		w.done(*list, res)
		if !res.Here {
			w.tell("%s would be moved to %s", filepath.Base(path), res.Target)
			w.wentTo(path, res.Target, res.Facts)
		}
	} else if w.left(err) {
		return nil
	}
	return w.gone(*list, err)
}

// wentTo follows the job's own file where a step took it that named it by its path.
func (w *Work) wentTo(from, to string, facts file.Facts) {
	for i := range w.Units {
		if u := &w.Units[i]; u.At == from && from != to {
			u.At, u.Facts = to, facts
			w.follow(u)
		}
	}
}

// replace puts new content in place of the file's.
func (w *Work) replace(s *rule.Step, u *Unit, j plan.Job) error {
	source, err := j.Replacement(s)
	if err != nil {
		return err
	}
	next, err := watchfs.Stat(source)
	switch {
	case err != nil:
		return err
	case !next.Exists:
		return fmt.Errorf("replace_with: there is no %s", plan.Display(source))
	case !next.Regular:
		return fmt.Errorf("replace_with: %s is not a regular file", plan.Display(source))
	case !s.Gains(u.Facts.Size, next.Size):
		w.note(fmt.Sprintf("kept as it is: the new content is not %ssmaller (%s, %s)", s.GainText(), humanize.IBytes(uint64(next.Size)), humanize.IBytes(uint64(u.Facts.Size))))
		w.tell("kept as it is: the new content is not %ssmaller", s.GainText())
		return nil
	}
	req := place.Request{To: u.spot(j)}
	list := w.placing(place.Put, source, u.Facts, &req, "")
	req.Source, req.Expect = source, u.Facts
	res, err := w.Placer.Replace(req)
	if err != nil {
		return err
	}
	w.done(*list, res)
	was := u.Facts.Size
	w.tell("its content would be replaced: %d bytes, then %d", was, res.Facts.Size)
	w.note(fmt.Sprintf("%s → %s (%+d %%)", humanize.IBytes(uint64(was)), humanize.IBytes(uint64(res.Facts.Size)), percent(was, res.Facts.Size)))
	u.Facts = res.Facts
	return nil
}

func percent(was, is int64) int64 { return (is - was) * 100 / max(was, 1) }

// spot names the place where a unit is now: links above the watched folder
// are meant, those below are not followed.
func (u *Unit) spot(j plan.Job) plan.Spot {
	if rel, err := filepath.Rel(j.Watch, u.At); err == nil && filepath.IsLocal(rel) {
		dir := filepath.Dir(rel)
		if dir == "." {
			dir = ""
		}
		return plan.Spot{Root: j.Watch, Rel: dir, Name: filepath.Base(rel)}
	}
	return place.SpotOf(u.At)
}

// discard discards one of the job's files, and follows it into the trash.
func (w *Work) discard(s *rule.Step, u *Unit) error {
	if err := w.throwAway(s, u); err != nil {
		return err
	}
	w.follow(u)
	return nil
}

func (w *Work) throwAway(s *rule.Step, u *Unit) error {
	if w.trial != nil {
		w.tell("would go: %s (%s)", u.At, s.Discard)
		u.At = ""
		return nil
	}
	var req place.Request
	if s.Discard == rule.DiscardDelete {
		list := w.placing(place.Deleted, u.At, u.Facts, &req, "")
		if err := w.Placer.Delete(req); err != nil {
			return w.gone(*list, err)
		}
		w.done(*list)
		u.At = ""
		return nil
	}
	list := w.placing(place.Trashed, u.At, u.Facts, &req, "")
	res, err := w.Placer.Trash(req)
	if err != nil {
		return w.gone(*list, err)
	}
	w.done(*list, res)
	u.At, u.Facts = res.Target, res.Facts
	return nil
}

func (w *Work) unpack(s *rule.Step, u *Unit, j plan.Job) error {
	to, err := w.spot(s, j, u.At)
	if err != nil {
		return err
	}
	req := place.Request{To: to}
	list := w.placing(place.Put, u.At, u.Facts, &req, s.SameName)
	results, err := w.Placer.Unpack(req, limitsOf(s))
	if err != nil {
		return err
	}
	w.unpacked(*list, results)
	return nil
}

// limitsOf are the bounds that an unpack step sets.
func limitsOf(s *rule.Step) place.Limits {
	limits := s.Limits()
	return place.Limits{Files: limits.MaxFiles, Size: limits.MaxSize, Ratio: limits.MaxRatio}
}

// unpacked reports what an archive held: what was made, and what was there already.
func (w *Work) unpacked(list []*ledger.Placement, results []place.Result) {
	var made []place.Result
	for _, r := range results {
		if r.Same {
			w.tell("%s has that content already", r.Target)
			continue
		}
		made = append(made, r)
		w.tell("would be unpacked: %s", r.Target)
	}
	if len(made) == 0 {
		for _, p := range list {
			w.drop(p)
		}
	} else {
		w.done(list, made...)
	}
	note := fmt.Sprintf("%d unpacked", len(made))
	if there := len(results) - len(made); there > 0 {
		note += fmt.Sprintf(", %d there already", there)
	}
	w.note(note)
	if len(results) > 0 {
		w.Job.Placed = results[0].Target
	}
}

func (w *Work) tag(s *rule.Step, u *Unit, j plan.Job) error {
	tags, err := j.Tags(s)
	if err != nil {
		return err
	}
	have := watchfs.Tags(u.At)
	all := slices.Clone(have)
	for _, l := range tags {
		if !slices.Contains(all, l) {
			all = append(all, l)
		}
	}
	if len(all) == len(have) {
		return nil
	}
	p := &ledger.Placement{ID: w.Book.Number(), Job: w.Job.ID, Attempt: w.Job.Attempt, Kind: string(place.Tagged), Source: u.At, Target: u.At,
		Facts: u.Facts, After: u.Facts, Kept: watchfs.ReadTags(u.At), State: ledger.Intended}
	if err := w.Book.Intend([]*ledger.Placement{p}); err != nil {
		return err
	}
	w.Placed = append(w.Placed, p)
	f, err := watchfs.OpenKnown(w.Job.Watch, u.At, u.Facts)
	if err != nil {
		return err
	}
	defer f.Close()
	if err := watchfs.WriteTags(f, strings.Join(all, ",")); err != nil {
		return err
	}
	w.done([]*ledger.Placement{p})
	w.tell("its tags would be %s", strings.Join(all, ", "))
	return nil
}

func (w *Work) write(s *rule.Step) error {
	text, err := w.Job.Text(s)
	if err != nil {
		return err
	}
	to, err := w.spot(s, w.Job, w.Job.Path())
	if err != nil {
		return err
	}
	req := place.Request{To: to}
	list := w.placing(place.Put, "", file.Facts{}, &req, s.SameName)
	res, err := w.Placer.Write(req, []byte(text))
	if w.left(err) {
		return nil
	}
	if err != nil {
		return err
	}
	w.done(*list, res)
	w.tell("would be written: %s", res.Target)
	return nil
}

// mirror keeps the same path below another folder in step.
func (w *Work) mirror(s *rule.Step, u *Unit, j plan.Job) error {
	to, err := w.spot(s, j, u.Taken)
	if err != nil {
		return err
	}
	ours := func(target string, f file.Facts) bool { return w.Book.Ours(j.Rule.Name.S, target, f) }
	if u.At != "" {
		return w.copyTo(to, u.At, u.Facts, s.SameName, ours)
	}
	there, err := watchfs.Stat(to.Path())
	switch {
	case err != nil:
		return err
	case !there.Exists:
		w.note("its copy was gone already")
		return nil
	case !ours(to.Path(), there):
		w.note("its copy has been changed, so it stays in " + to.Path())
		return nil
	}
	var req place.Request
	list := w.placing(place.Trashed, to.Path(), there, &req, "")
	if w.trial != nil {
		w.tell("would go to the trash: %s", to.Path())
		return nil
	}
	res, err := w.Placer.Trash(req)
	if err != nil {
		return err
	}
	w.done(*list, res)
	w.note("its copy is in the trash")
	return nil
}

func (w *Work) notify(s *rule.Step) error {
	text, err := w.Job.Text(s)
	if err != nil {
		return err
	}
	if w.trial != nil {
		w.tell("would tell %s: %s", s.Tell.S, text)
		return nil
	}
	w.Book.Notice(s.Tell.S, text, w.Job)
	return nil
}

// tell prints a line in a trial.
func (w *Work) tell(format string, args ...any) {
	if w.trial != nil {
		text := fmt.Sprintf(format, args...)
		for _, inner := range []string{"copy", "placed"} { // the real path that it stands for
			text = strings.ReplaceAll(text, filepath.Join(w.trial.folder, inner)+string(filepath.Separator), string(filepath.Separator))
		}
		fmt.Fprintf(w.trial.out, "  %s\n", text)
	}
}

// ErrDiskAway says that a destination's disk is not mounted.
var ErrDiskAway = errors.New("its disk is not mounted")
