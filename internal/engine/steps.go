package engine

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

// hands are what steps act with: those of the engine record every placement
// before it is made, those of a trial only touch a throwaway folder.
type hands struct {
	placer *place.Placer
	runner *runner.Runner
	state  string // folder of scripts, scratch folders and kept content
	book   book
	trial  *trialHands // nil for real
	watch  string      // the watched folder that the job's file was taken from

	secrets []string // environment variables that commands do not get
}

// book is the engine's side of a placement.
type book interface {
	number() int64                                            // of a new placement
	intend(p []*ledger.Placement) error                       // until that is durable
	did(p *ledger.Placement)                                  // how it ended
	stays(p *ledger.Placement, job []*ledger.Placement) error // an error if what it placed is relied on, or all that is left
	there(folder string) error                                // an error if the folder's disk is not mounted
	ours(rule, target string, f file.Facts) bool              // whether what lies there is what the rule placed
	notice(channel, text string, job plan.Job)                // a notify step
	first(path string) []place.Ahead                          // the files that a name is left to
	held(path string, wait bool) bool                         // whether another job works on a file, perhaps after a while
	lost(folder string, attributes []string) string           // what to say of attributes that a folder cannot hold, once
}

// unit is one file of a job and where it is now.
type unit struct {
	taken    string
	at       string // "" if it is nowhere
	facts    file.Facts
	captures map[string]string
}

// work is the steps of one attempt under way.
type work struct {
	hands
	job    plan.Job
	units  []unit
	output string // file for what is printed
	placed []*ledger.Placement
	notes  []string          // for the job's line
	fulfil func(path string) // is told of each path where something was placed; nil for nobody
	rests  []*place.Rest     // what could not be removed of folders that were moved
	run    runner.Result
	exit   *int
	cpu    time.Duration
	memory int64

	printed int64 // bytes in the output file
}

// problem is why a step failed.
type problem struct {
	text     string
	waits    bool // nothing is wrong with the file: the target's disk is full or away
	hopeless bool // another attempt would fail for the same reason
}

func problemOf(err error) *problem {
	if err == nil {
		return nil
	}
	full := errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT)
	return &problem{text: err.Error(), waits: full || errors.Is(err, errDiskAway) || errors.Is(err, place.ErrHeld), hopeless: place.Final(err) || errors.As(err, new(hopeless))}
}

// step does one step.
func (w *work) step(ctx context.Context, s *rule.Step) *problem {
	applies, err := w.job.Applies(s)
	if err != nil || !applies {
		return problemOf(err)
	}
	if t := s.Timeout.Duration; t > 0 && !s.Runs() {
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeout(ctx, t)
		defer cancel()
	}
	placer := *w.placer
	placer.Cancel = ctx.Done()
	defer func(was *place.Placer) { w.placer = was }(w.placer)
	w.placer = &placer
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
	for i := range w.units {
		if err := w.one(ctx, s, &w.units[i]); err != nil {
			return w.ended(ctx, s, err)
		}
	}
	return nil
}

// ended says why a step failed that was ended.
func (w *work) ended(ctx context.Context, s *rule.Step, err error) *problem {
	p := problemOf(err)
	if errors.Is(err, place.ErrStopped) && ctx.Err() != nil {
		p.text = whyEnded(ctx, w.job.Rule)
		if context.Cause(ctx) == context.DeadlineExceeded {
			p.text = fmt.Sprintf("it timed out after %s", plan.Span(s.Timeout.Duration))
		}
	}
	return p
}

// as returns the job as it is for one of its files.
func (w *work) as(u *unit) plan.Job {
	j := w.job
	if w.job.Files != nil {
		j.File, j.Facts, j.Captures, j.Files = u.taken, u.facts, u.captures, nil
	}
	j.At = u.at
	return j
}

// one does a step that places or sends one of the job's files.
func (w *work) one(ctx context.Context, s *rule.Step, u *unit) error {
	j := w.as(u)
	if s.Verb() == "mirror" {
		return w.mirror(s, u, j)
	}
	if u.at == "" {
		if j.Event == file.Removed {
			return fmt.Errorf("%s was removed, so there is nothing to %s; where: event != \"removed\" leaves the step out then", plan.Display(u.taken), s.Verb())
		}
		return fmt.Errorf("an earlier step has discarded the file")
	}
	switch s.Verb() {
	case "move", "rename":
		return w.move(s, u, j)
	case "copy":
		return w.copy(s, j, u.at, u.facts)
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
func (w *work) placing(kind place.Kind, source string, before file.Facts, req *place.Request, same rule.SameName) *[]*ledger.Placement {
	list := &[]*ledger.Placement{}
	if w.passing(req.To.Folder()) {
		req.Source, req.Root, req.Expect, req.Part, req.Same = source, w.job.Watch, before, w.part(), rule.SameReplace
		req.Kept = filepath.Join(w.job.Scratch, ".replaced")
		return list // the scratch folder goes with the attempt: there is nothing to undo
	}
	if kind == place.Moved && w.passing(filepath.Dir(source)) {
		kind = place.Put // undone by removing it: where it came from is gone by then
	}
	id := w.book.number()
	req.Source, req.Root, req.Expect, req.Part, req.Same = source, w.job.Watch, before, w.part(), same
	req.Kept = keptPath(w.state, id)
	req.Held = func(path string) bool { return w.book.held(path, same == rule.SameReplace) }
	if req.To.Name != "" {
		req.First = w.book.first(req.To.Path())
	}
	req.Stage = func(staged []place.Staged) error {
		for i, s := range staged {
			if i == len(*list) {
				p := &ledger.Placement{ID: id, Job: w.job.ID, Attempt: w.job.Attempt, Source: source, Facts: before, State: ledger.Intended, Chained: true}
				if i > 0 {
					p.ID = w.book.number()
				}
				*list = append(*list, p)
				w.placed = append(w.placed, p)
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
		return w.book.intend(*list)
	}
	return list
}

// passing reports whether a folder is the attempt's own, or lies in it.
func (w *work) passing(folder string) bool {
	return w.job.Scratch != "" && (folder == w.job.Scratch || strings.HasPrefix(folder, w.job.Scratch+string(filepath.Separator)))
}

func (w *work) part() string { return place.PartName(w.state, w.job.ID) }

// done completes the records of a placement that went well.
func (w *work) done(list []*ledger.Placement, results ...place.Result) {
	if len(results) > 0 && results[0].Target != "" {
		w.job.Placed = results[0].Target
	}
	for i, p := range list {
		if i < len(results) && (results[i].Here || results[i].Same && p.Kind == string(place.Put)) {
			p.State = ledger.Dropped // it was there: nothing was made
			w.book.did(p)
			continue
		}
		if i < len(results) && results[i].Facts.Exists {
			p.Target, p.After = results[i].Target, results[i].Facts
		}
		p.State = ledger.Done
		w.book.did(p)
		w.changed(p)
	}
	for _, r := range results {
		if r.Rest != nil {
			w.rests = append(w.rests, r.Rest)
		}
		if len(r.Lost) > 0 {
			w.note(w.book.lost(filepath.Dir(r.Target), r.Lost))
		}
	}
}

// changed looks again at a folder of the job's in which a placement of its own has
// changed something.
func (w *work) changed(p *ledger.Placement) {
	for i := range w.units {
		u := &w.units[i]
		below := u.at + string(filepath.Separator)
		if !u.facts.Dir || u.at == "" || !strings.HasPrefix(p.Source, below) && !strings.HasPrefix(p.Target, below) {
			continue
		}
		if facts, err := watchfs.LookTree(u.at); err == nil && facts.Exists {
			u.facts = facts
		}
	}
}

// placedAt tells whoever wants to know that something has got its place.
func (w *work) placedAt(path string) {
	if w.fulfil != nil {
		w.fulfil(path)
	}
}

func (w *work) note(text string) {
	if text != "" && !slices.Contains(w.notes, text) {
		w.notes = append(w.notes, text)
	}
}

// gone drops the records of a placement whose source went before it was made: what
// lies at its target now is somebody else's.
func (w *work) gone(list []*ledger.Placement, err error) error {
	if errors.Is(err, place.ErrGone) {
		for _, p := range list {
			w.drop(p)
		}
	}
	return err
}

// left reports whether a placement was left out on purpose (same_name: skip).
func (w *work) left(err error) bool {
	if errors.Is(err, place.ErrSkipped) {
		w.note(err.Error())
		return true
	}
	return false
}

// spot fills a destination; in a trial it lies below the throwaway folder.
func (w *work) spot(s *rule.Step, j plan.Job, source string) (plan.Spot, error) {
	spot, err := j.Spot(s, source)
	if err != nil {
		return spot, err
	}
	return w.real(spot)
}

func (w *work) real(spot plan.Spot) (plan.Spot, error) {
	if w.trial != nil {
		return w.trial.spot(spot), nil
	}
	return spot, w.book.there(spot.Folder())
}

// move moves or renames one of the job's files, and follows it.
func (w *work) move(s *rule.Step, u *unit, j plan.Job) error {
	to, err := w.spot(s, j, u.at)
	if err != nil {
		return err
	}
	req := place.Request{To: to}
	list := w.placing(place.Moved, u.at, u.facts, &req, s.SameName)
	res, err := w.placer.Move(req)
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
	w.tell("%s would be moved to %s", filepath.Base(u.at), res.Target)
	u.at, u.facts = res.Target, res.Facts
	w.follow(u)
	return nil
}

// follow lets later steps see where a single file is.
func (w *work) follow(u *unit) {
	if w.job.Files != nil {
		for i := range w.units {
			w.job.Files[i] = w.units[i].at
		}
		return
	}
	w.job.At = u.at
}

func (w *work) copy(s *rule.Step, j plan.Job, source string, facts file.Facts) error {
	to, err := w.spot(s, j, source)
	if err != nil {
		return err
	}
	return w.copyTo(to, source, facts, s.SameName, nil)
}

func (w *work) copyTo(to plan.Spot, source string, facts file.Facts, same rule.SameName, ours func(string, file.Facts) bool) error {
	req := place.Request{To: to, Ours: ours}
	list := w.placing(place.Put, source, facts, &req, same)
	res, err := w.placer.Copy(req)
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
func (w *work) others(s *rule.Step) error {
	j := w.job
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

func (w *work) other(s *rule.Step, j plan.Job, path string) error {
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
		u := unit{taken: path, at: path, facts: facts}
		err := w.throwAway(s, &u)
		w.wentTo(path, u.at, u.facts)
		return err
	}
	to, err := w.spot(s, j, path)
	if err != nil {
		return err
	}
	req := place.Request{To: to}
	list := w.placing(place.Moved, path, facts, &req, s.SameName)
	res, err := w.placer.Move(req)
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
func (w *work) wentTo(from, to string, facts file.Facts) {
	for i := range w.units {
		if u := &w.units[i]; u.at == from && from != to {
			u.at, u.facts = to, facts
			w.follow(u)
		}
	}
}

// replace puts new content in place of the file's.
func (w *work) replace(s *rule.Step, u *unit, j plan.Job) error {
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
	case !s.Gains(u.facts.Size, next.Size):
		w.note(fmt.Sprintf("kept as it is: the new content is not %ssmaller (%s, %s)", s.GainText(), humanize.IBytes(uint64(next.Size)), humanize.IBytes(uint64(u.facts.Size))))
		w.tell("kept as it is: the new content is not %ssmaller", s.GainText())
		return nil
	}
	req := place.Request{To: u.spot(j)}
	list := w.placing(place.Put, source, u.facts, &req, "")
	req.Source, req.Expect = source, u.facts
	res, err := w.placer.Replace(req)
	if err != nil {
		return err
	}
	w.done(*list, res)
	was := u.facts.Size
	w.tell("its content would be replaced: %d bytes, then %d", was, res.Facts.Size)
	w.note(fmt.Sprintf("%s → %s (%+d %%)", humanize.IBytes(uint64(was)), humanize.IBytes(uint64(res.Facts.Size)), percent(was, res.Facts.Size)))
	u.facts = res.Facts
	return nil
}

func percent(was, is int64) int64 { return (is - was) * 100 / max(was, 1) }

// spot names the place where a unit is now: links above the watched folder
// are meant, those below are not followed.
func (u *unit) spot(j plan.Job) plan.Spot {
	if rel, err := filepath.Rel(j.Watch, u.at); err == nil && filepath.IsLocal(rel) {
		dir := filepath.Dir(rel)
		if dir == "." {
			dir = ""
		}
		return plan.Spot{Root: j.Watch, Rel: dir, Name: filepath.Base(rel)}
	}
	return place.SpotOf(u.at)
}

// discard discards one of the job's files, and follows it into the trash.
func (w *work) discard(s *rule.Step, u *unit) error {
	if err := w.throwAway(s, u); err != nil {
		return err
	}
	w.follow(u)
	return nil
}

func (w *work) throwAway(s *rule.Step, u *unit) error {
	if w.trial != nil {
		w.tell("would go: %s (%s)", u.at, s.Discard)
		u.at = ""
		return nil
	}
	var req place.Request
	if s.Discard == rule.DiscardDelete {
		list := w.placing(place.Deleted, u.at, u.facts, &req, "")
		if err := w.placer.Delete(req); err != nil {
			return w.gone(*list, err)
		}
		w.done(*list)
		u.at = ""
		return nil
	}
	list := w.placing(place.Trashed, u.at, u.facts, &req, "")
	res, err := w.placer.Trash(req)
	if err != nil {
		return w.gone(*list, err)
	}
	w.done(*list, res)
	u.at, u.facts = res.Target, res.Facts
	return nil
}

func (w *work) unpack(s *rule.Step, u *unit, j plan.Job) error {
	to, err := w.spot(s, j, u.at)
	if err != nil {
		return err
	}
	req := place.Request{To: to}
	list := w.placing(place.Put, u.at, u.facts, &req, s.SameName)
	results, err := w.placer.Unpack(req, limitsOf(s))
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
func (w *work) unpacked(list []*ledger.Placement, results []place.Result) {
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
		w.job.Placed = results[0].Target
	}
}

func (w *work) tag(s *rule.Step, u *unit, j plan.Job) error {
	tags, err := j.Tags(s)
	if err != nil {
		return err
	}
	have := watchfs.Tags(u.at)
	all := slices.Clone(have)
	for _, l := range tags {
		if !slices.Contains(all, l) {
			all = append(all, l)
		}
	}
	if len(all) == len(have) {
		return nil
	}
	p := &ledger.Placement{ID: w.book.number(), Job: w.job.ID, Attempt: w.job.Attempt, Kind: string(place.Tagged), Source: u.at, Target: u.at,
		Facts: u.facts, After: u.facts, Kept: watchfs.ReadTags(u.at), State: ledger.Intended}
	if err := w.book.intend([]*ledger.Placement{p}); err != nil {
		return err
	}
	w.placed = append(w.placed, p)
	f, err := watchfs.OpenKnown(w.job.Watch, u.at, u.facts)
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

func (w *work) write(s *rule.Step) error {
	text, err := w.job.Text(s)
	if err != nil {
		return err
	}
	to, err := w.spot(s, w.job, w.job.Path())
	if err != nil {
		return err
	}
	req := place.Request{To: to}
	list := w.placing(place.Put, "", file.Facts{}, &req, s.SameName)
	res, err := w.placer.Write(req, []byte(text))
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
func (w *work) mirror(s *rule.Step, u *unit, j plan.Job) error {
	to, err := w.spot(s, j, u.taken)
	if err != nil {
		return err
	}
	ours := func(target string, f file.Facts) bool { return w.book.ours(j.Rule.Name.S, target, f) }
	if u.at != "" {
		return w.copyTo(to, u.at, u.facts, s.SameName, ours)
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
	res, err := w.placer.Trash(req)
	if err != nil {
		return err
	}
	w.done(*list, res)
	w.note("its copy is in the trash")
	return nil
}

func (w *work) notify(s *rule.Step) error {
	text, err := w.job.Text(s)
	if err != nil {
		return err
	}
	if w.trial != nil {
		w.tell("would tell %s: %s", s.Tell.S, text)
		return nil
	}
	w.book.notice(s.Tell.S, text, w.job)
	return nil
}

// tell prints a line in a trial.
func (w *work) tell(format string, args ...any) {
	if w.trial != nil {
		text := fmt.Sprintf(format, args...)
		for _, inner := range []string{"copy", "placed"} { // the real path that it stands for
			text = strings.ReplaceAll(text, filepath.Join(w.trial.folder, inner)+string(filepath.Separator), string(filepath.Separator))
		}
		fmt.Fprintf(w.trial.out, "  %s\n", text)
	}
}

// errDiskAway says that a destination's disk is not mounted.
var errDiskAway = errors.New("its disk is not mounted")
