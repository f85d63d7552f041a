package plan

import (
	"fmt"
	"net/url"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"stilltide/internal/core/file"
	"stilltide/internal/core/fill"
	"stilltide/internal/core/rule"
)

// Applies reports whether a step's own condition holds.
func (j *Job) Applies(s *rule.Step) (bool, error) {
	if j.Event == file.Removed && j.Rule.Derives() && !s.Kind().Removal {
		return false, nil // it makes the result of a file that is not there any more
	}
	if s.Where.Program == nil {
		return true, nil
	}
	j.lets = nil // what was saved meanwhile may count
	values, err := j.values()
	if err != nil {
		return false, err
	}
	values["exit_code"] = j.Exit
	values.Exists(j.exists)
	holds, err := s.Where.Program.Holds(values)
	if err != nil {
		return false, fmt.Errorf("where cannot be computed: %w", err)
	}
	return holds, nil
}

// exists fills a path that a condition asks for, and checks whether it is there.
func (j *Job) exists(text string) (bool, error) {
	t, err := fill.Parse(text)
	if err != nil {
		return false, err
	}
	path, err := t.Fill(j.Lookup)
	if err != nil || j.Exists == nil {
		return false, err
	}
	if path = rule.AtHome(path, j.Rule.Home); !filepath.IsAbs(path) {
		path = filepath.Join(filepath.Dir(j.Rule.Pos.File), path)
	}
	return j.Exists(path)
}

// Ready says why a job cannot be done, as far as that is known before its first step:
// a destination that cannot be filled for this file. What depends on the outcome of a
// step is left to that.
func (j Job) Ready() error {
	r := j.Rule
	open := slices.Clone(r.Saved) // words that are not known yet
	if len(open) > 0 {
		for _, l := range r.Lets {
			open = append(open, l.Word)
		}
	}
	j.foreseen()
	j.lets = nil
	if j.Scratch == "" {
		j.Scratch = filepath.Join(j.Watch, "…") // it is made with the first step
	}
	for i := range r.Steps {
		s := &r.Steps[i]
		if s.Uncertain(r.Saved) || s.Depends(open) {
			if s.TakesInput() {
				return nil // from here on it is open what the file is called
			}
			continue
		}
		if applies, err := j.Applies(s); err != nil || !applies {
			continue
		}
		if _, err := j.Foretell(s, ""); err != nil {
			return err
		}
	}
	if p := r.Processed; p != nil && j.Event != file.Removed && !p.Folder.Uses(open...) &&
		(p.Name == nil || !p.Name.Uses(open...)) {
		_, err := j.Destination(p)
		return err
	}
	return nil
}

// Sources returns the paths of a step's from, each a plain path or a glob; nil
// means the job's own file. What is filled in never acts as a glob.
func (j *Job) Sources(s *rule.Step) ([]string, error) {
	var list []string
	for i, t := range s.Sources {
		filled, err := t.Fill(func(word string) (fill.Value, error) {
			v, err := j.Lookup(word)
			v.Text = quoteGlob(v.Text)
			return v, err
		})
		if err != nil {
			return nil, err
		}
		if !filepath.IsAbs(filled) {
			filled = filepath.Join(quoteGlob(s.From[i].Base), filled)
		}
		list = append(list, filled)
	}
	return list, nil
}

var globQuoter = strings.NewReplacer(`\`, `\\`, `*`, `\*`, `?`, `\?`, `[`, `\[`)

func quoteGlob(text string) string { return globQuoter.Replace(text) }

// Spot returns where a step puts a source: the job's file, or one of from.
func (j *Job) Spot(s *rule.Step, source string) (Spot, error) {
	path, t := s.Destination()
	if t == nil { // rename
		name, err := j.name(s.Name, source)
		return SpotWithin(j.Watch, filepath.Join(filepath.Dir(source), name)), err
	}
	spot, err := j.folder(t, path.Base)
	if err != nil {
		return Spot{}, err
	}
	if s.Kind().SameRel {
		spot.Rel = filepath.Join(spot.Rel, filepath.Dir(j.rel()))
		if spot.Rel == "." {
			spot.Rel = ""
		}
		asTaken := *j // whatever an earlier step has called it
		asTaken.At = ""
		spot.Name, err = asTaken.name(s.Name, j.File)
		return spot, err
	}
	if s.Runs() { // stdout names the file itself
		return split(spot), nil
	}
	spot.Name, err = j.name(s.Name, source)
	return spot, err
}

// SpotWithin names a path as a spot whose way from a folder may pass through no link.
func SpotWithin(root, path string) Spot {
	rel, below := strings.CutPrefix(path, root)
	if root == "" || !below || rel == "" || rel[0] != filepath.Separator {
		return SpotOf(path)
	}
	in, name := filepath.Split(rel[1:])
	return Spot{Root: root, Rel: strings.TrimSuffix(in, string(filepath.Separator)), Name: name}
}

// SpotOf names a whole path as a spot in which nothing was filled.
func SpotOf(path string) Spot {
	return Spot{Root: filepath.Dir(path), Name: filepath.Base(path)}
}

// split makes a spot's last element its name.
func split(s Spot) Spot {
	if s.Rel == "" {
		return Spot{Root: filepath.Dir(s.Root), Name: filepath.Base(s.Root)}
	}
	dir, name := filepath.Split(s.Rel)
	return Spot{Root: s.Root, Rel: strings.TrimSuffix(dir, "/"), Name: name}
}

// ShownAddress is an address as it may be shown: without a password, and without what
// follows the question mark, where keys often stand.
func ShownAddress(address string) string {
	u, err := url.Parse(address)
	if err != nil {
		return "an address that cannot be read"
	}
	if u.User != nil {
		u.User = url.User("…")
	}
	if u.RawQuery != "" {
		u.RawQuery = "…"
	}
	u.Fragment = ""
	shown, err := url.PathUnescape(u.Redacted())
	if err != nil {
		return u.Redacted()
	}
	return shown
}

// foreseen gives the words that only a run can know their own names.
func (j *Job) foreseen() {
	j.Saved = map[string]string{}
	for _, w := range j.Rule.Saved {
		j.Saved[w] = "{" + w + "}"
	}
}

// Begin is the candidate as a job that is about to begin, for the sake of foretelling:
// what only a run can know stands there by its name.
func (c Candidate) Begin(f file.Facts, event file.Event, now time.Time, state string) Job {
	j := c.job(f, event, now)
	j.Scratch = filepath.Join(state, "scratch", "…")
	j.foreseen()
	if c.Rule.Gather != nil {
		j.Files = []string{j.File}
		j.List, j.List0 = "{list}", "{list0}"
	}
	return *j
}

// Targets returns the paths at which the steps would place something, and the one at which
// the file would end after success; fileNow is "" if it stays where it is. Copies of other
// files, and what an archive holds, are left out.
func (c Candidate) Targets(f file.Facts, event file.Event, now time.Time, state string) (placed []string,
	fileNow string, err error) {
	j := c.Begin(f, event, now, state)
	for i := range c.Rule.Steps {
		s := &c.Rule.Steps[i]
		if applies, err := j.Applies(s); err == nil && !applies && !s.Uncertain(c.Rule.Saved) {
			continue
		}
		if _, err := j.Foretell(s, state); err != nil {
			return nil, "", err
		}
		if k := s.Kind(); k.Puts == rule.PutsFile && !k.SameRel && len(s.From) == 0 {
			placed = append(placed, j.Placed)
		}
	}
	if c.Rule.Processed == nil || event == file.Removed {
		return placed, j.At, nil
	}
	spot, err := j.Destination(c.Rule.Processed)
	return placed, spot.Path(), err
}

// Act is what a verb says of a step before it is done.
type Act interface {
	// Says tells in a few words what the step would do, and follows the job's file. state is
	// the state folder.
	Says(j *Job, s *rule.Step, state string) (string, error)
}

// Foretell says what one step would do, and follows the file.
func (j *Job) Foretell(s *rule.Step, state string) (string, error) {
	return s.Act.(Act).Says(j, s, state)
}

// Lands returns where a step puts what it places, of other files the first, and which those
// are.
func (j *Job) Lands(s *rule.Step) (spot Spot, from []string, err error) {
	source := j.Path()
	if from, err = j.Sources(s); err != nil {
		return spot, nil, err
	}
	if len(from) > 0 {
		source = from[0]
	}
	if spot, err = j.Spot(s, source); err == nil {
		j.Placed = spot.Path()
	}
	return spot, from, err
}
