package plan

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"stilltide/internal/core/expr"
	"stilltide/internal/core/file"
	"stilltide/internal/core/fill"
	"stilltide/internal/core/pattern"
	"stilltide/internal/core/rule"
)

// Needs returns what must be known of a file beyond its facts before a rule can decide.
func (s *Set) Needs(r *rule.Rule) file.Needs { return s.needs[r] }

func needsOf(r *rule.Rule) file.Needs {
	texts := r.Where.S
	for _, l := range r.Lets {
		texts += " " + l.Text.S
	}
	for i := range r.Steps {
		texts += " " + r.Steps[i].Where.S
	}
	return file.Needs{
		Kind: len(r.MediaType)+len(r.Category) > 0 || strings.Contains(texts, "media_type") ||
			strings.Contains(texts, "category") || r.Uses("media_type", "main_type", "category"),
		Tags: strings.Contains(texts, "tags"),
		Shot: r.Uses("shot"),
		Made: r.Uses("created"),
	}
}

// Condition is one condition of a rule on one file: what was wanted, what the
// file has, and whether that fits.
type Condition struct {
	Key  string `json:"key"`
	Want string `json:"want"`
	Got  string `json:"got"`
	Fits bool   `json:"fits"`
}

// Fits tests the conditions on the settled file, the cheapest first. older is
// when a file that fails only because it is too young will fit, zero otherwise.
func (c Candidate) Fits(f file.Facts, event file.Event, now time.Time) (fits bool, older time.Time) {
	if !c.isUnit(f) {
		return false, time.Time{}
	}
	young := false
	for _, cond := range c.onFile(f, event, now) {
		if cond.Fits {
			continue
		}
		if cond.Key == "age" && age(f, now) < c.Rule.Age.Low {
			young = true
			continue
		}
		return false, time.Time{}
	}
	if young {
		return false, f.Mod.Time().Add(c.Rule.Age.Low)
	}
	return true, time.Time{}
}

func (c Candidate) isUnit(f file.Facts) bool {
	if c.Rule.Folded() {
		return f.Exists && f.Dir
	}
	return f.Exists && f.Regular
}

// age is the time since the last change of the content; a time in the future is age 0.
func age(f file.Facts, now time.Time) time.Duration { return max(now.Sub(f.Mod.Time()), 0) }

// onFile lists the conditions that need a look at the file.
func (c Candidate) onFile(f file.Facts, event file.Event, now time.Time) []Condition {
	r := c.Rule
	var list []Condition
	if r.Size.Set() {
		list = append(list, Condition{"size", r.Size.Text, fmt.Sprintf("%d bytes", f.Size), r.Size.Holds(f.Size)})
	}
	if r.Age.Set() {
		got := Span(age(f, now))
		if old := f.Mod.Time().Add(r.Age.Low); age(f, now) < r.Age.Low {
			got += ", old enough at " + Clock(old, now)
		}
		list = append(list, Condition{"age", r.Age.Text, got, r.Age.Holds(age(f, now))})
	}
	if len(r.MediaType) > 0 {
		list = append(list, c.kind(f))
	}
	if len(r.Category) > 0 {
		list = append(list, c.category(f))
	}
	if r.Where.Program != nil {
		list = append(list, c.where(f, event, now))
	}
	return list
}

func (c Candidate) kind(f file.Facts) Condition {
	is := f.Says().Kind
	cond := Condition{Key: "media_type", Got: is}
	var wants []string
	for _, k := range c.Rule.MediaType {
		wants = append(wants, k.S)
		if ok, err := filepath.Match(k.S, is); err == nil && ok {
			cond.Fits = true
		}
	}
	cond.Want = strings.Join(wants, " or ")
	return cond
}

func (c Candidate) category(f file.Facts) Condition {
	is := c.Rule.Sorts.Of(f.Says().Kind, filepath.Base(c.Unit))
	cond := Condition{Key: "category", Got: is}
	var wants []string
	for _, k := range c.Rule.Category {
		wants = append(wants, k.S)
		cond.Fits = cond.Fits || k.S == is
	}
	cond.Want = strings.Join(wants, " or ")
	return cond
}

func (c Candidate) where(f file.Facts, event file.Event, now time.Time) Condition {
	cond := Condition{Key: "where", Want: c.Rule.Where.S}
	values, err := c.job(f, event, now).values()
	if err == nil {
		cond.Fits, err = c.Rule.Where.Program.Holds(values)
	}
	cond.Got = fmt.Sprint(cond.Fits)
	if err != nil {
		cond.Got = err.Error()
	}
	return cond
}

// job is the candidate as a job that would begin now.
func (c Candidate) job(f file.Facts, event file.Event, now time.Time) *Job {
	return &Job{Rule: c.Rule, File: c.Unit, Watch: c.Watch, Captures: c.Captures, Facts: f, Event: event, Now: now,
		Attempt: 1}
}

// values are what the expressions of a job's rule name, `let` words included.
func (j *Job) values() (expr.Values, error) {
	name := filepath.Base(j.Path())
	v := expr.Base(j.Now)
	v["name"], v["stem"], v["ext"] = name, stem(name), strings.TrimPrefix(name[len(stem(name)):], ".")
	v["file"], v["rel"], v["size"] = j.Path(), j.rel(), j.Facts.Size
	v["modified"], v["age"], v["media_type"], v["event"] = j.Facts.Mod.Time(), age(j.Facts, j.Now),
		j.Facts.Says().Kind, string(j.Event)
	v["category"] = j.Rule.Sorts.Of(j.Facts.Says().Kind, name)
	tags := j.Facts.Says().Tags
	if tags == nil {
		tags = []string{}
	}
	v["tags"] = tags
	for word, text := range j.Rule.Fixed {
		v[word] = text
	}
	for word, text := range j.Captures {
		if _, built := v[word]; !built {
			v[word] = text
		}
	}
	for word, text := range j.Saved {
		v[word] = text
	}
	j.lets = map[string]fill.Value{}
	for _, l := range j.Rule.Lets {
		value, text, err := l.Program.Value(v)
		if err != nil {
			return nil, fmt.Errorf("the word %s cannot be computed: %w", l.Word, err)
		}
		v[l.Word] = value
		filled := fill.Text(text)
		if at, ok := value.(time.Time); ok {
			filled.Time = at
		}
		j.lets[l.Word] = filled
	}
	return v, nil
}

// let returns the value of one of the rule's own words.
func (j *Job) let(word string) (v fill.Value, ok bool, err error) {
	if len(j.Rule.Lets) == 0 {
		return v, false, nil
	}
	if j.lets == nil {
		if _, err := j.values(); err != nil {
			return v, false, err
		}
	}
	v, ok = j.lets[word]
	return v, ok, nil
}

// Explain lists the conditions of a rule on a path, one by one, whether or
// not the earlier ones fit. The facts may be those of a file that does not exist.
func (s *Set) Explain(r *rule.Rule, path string, f file.Facts, event file.Event, now time.Time) (list []Condition,
	fits bool) {
	add := func(key, want, got string, ok bool) { list = append(list, Condition{key, want, got, ok}) }
	if !r.Enabled {
		add("enabled", "true", "false", false)
	}
	watch, words := s.nearestWatch(r, path)
	want := folders(r)
	if slices.ContainsFunc(r.Folders, func(folder string) bool { return s.isApart(folder, path) }) {
		want += ", and follows no link in it"
	}
	add("watch", want, filepath.Dir(path), watch != "")
	if watch == "" {
		return list, false
	}
	unit := path
	if r.Folded() {
		first, _, _ := strings.Cut(filepath.ToSlash(strings.TrimPrefix(path[len(watch):],
			string(filepath.Separator))), "/")
		unit = filepath.Join(watch, first)
	}
	name := filepath.Base(unit)
	rel := filepath.ToSlash(strings.TrimPrefix(unit[len(watch):], string(filepath.Separator)))
	captures, matched := r.Matcher.Match(name, rel)
	add("match", patterns(r), rel+butForCase(r, name, rel, matched), matched)
	s.explainPlace(r, watch, path, name, rel, add)
	if !r.Reacts(event) {
		add("events", events(r), string(event), false)
	}
	c := Candidate{Rule: r, Unit: unit, Watch: watch, Rel: rel, Captures: join(words, captures)}
	if f.Exists {
		add("unit", string(r.Unit), unitWord(f), c.isUnit(f))
	}
	if inside := s.holding[unit]; r.Folded() && inside != nil {
		nearest := slices.Min(inside)
		found := "one in which " + s.watch[nearest][0].Name.S + " watches a folder"
		if nearest == unit {
			found = "one that " + s.watch[nearest][0].Name.S + " watches"
		}
		add("unit", "a folder that no rule watches", found, false)
	}
	for _, cond := range c.onFile(f, event, now) {
		if !f.Exists && cond.Key != "media_type" && cond.Key != "category" { // a name alone says nothing of these
			cond.Got, cond.Fits = "not known before the file is there", true
		}
		list = append(list, cond)
	}
	fits = true
	for _, cond := range list {
		fits = fits && cond.Fits
	}
	return list, fits
}

// butForCase says of a name that does not fit whether only the case of its letters is in the way.
func butForCase(r *rule.Rule, name, rel string, fits bool) string {
	if fits || r.Case {
		return ""
	}
	texts := make([]string, len(r.Match))
	for i, m := range r.Match {
		texts[i] = m.S
	}
	folded, _, err := pattern.CompileList(texts, pattern.Options{IgnoreCase: true})
	if err != nil || !folded.Fits(name, rel) {
		return ""
	}
	return ", which fits but for upper and lower case (ignore_case: true)"
}

// explainPlace tells of what keeps a rule from a file by its name and place alone.
func (s *Set) explainPlace(r *rule.Rule, watch, path, name, rel string, add func(key, want, got string, ok bool)) {
	if hidden(rel) {
		add("hidden", fmt.Sprint(r.Hidden), "begins with a dot", r.Hidden)
	}
	if unfinished(r, name) {
		add("ignore", "a finished file", "a name of the built-in list of part-files, swap files and lock files",
			false)
	}
	if s.ignores(name, rel) {
		add("ignore", "no name of ignore:", name, false)
	}
	if within(path, s.state) {
		add("state_folder", "outside the state folder", s.state, false)
	}
	if s.texts[path] {
		add("watch", "another file than the rules", "the rules file itself", false)
	}
	if s.ownPlace(r, watch, path) {
		add("watch", "outside the rule's own processed and failed folders", filepath.Dir(path), false)
	}
	if s.marker(path) {
		add("marker", "no companion file", name, false)
	}
}

// nearestWatch returns the rule's watched folder that a path lies in, "" if it
// lies in none, and what a glob of folders captured.
func (s *Set) nearestWatch(r *rule.Rule, path string) (watch string, words map[string]string) {
	for _, folder := range r.Folders {
		if !within(path, folder) || path == folder || s.isApart(folder, path) {
			continue
		}
		level := strings.Count(strings.TrimPrefix(path[len(folder):], string(filepath.Separator)),
			string(filepath.Separator))
		if at, w, ok := placeIn(r, folder, level, path); ok && len(at) > len(watch) {
			watch, words = at, w
		}
	}
	return watch, words
}

func folders(r *rule.Rule) string {
	var texts []string
	for _, w := range r.Watch {
		texts = append(texts, w.Absolute())
	}
	text := strings.Join(texts, " or ")
	switch {
	case r.Levels() == rule.AllLevels:
		text += ", at any depth"
	case r.Levels() > 0:
		text += fmt.Sprintf(", %d levels deep", r.Levels())
	}
	return text
}

func patterns(r *rule.Rule) string {
	if len(r.Match) == 0 {
		return "*"
	}
	var texts []string
	for _, m := range r.Match {
		texts = append(texts, m.S)
	}
	return strings.Join(texts, " or ")
}

func events(r *rule.Rule) string {
	var texts []string
	for _, e := range r.Events {
		texts = append(texts, string(e))
	}
	return strings.Join(texts, " or ")
}

func unitWord(f file.Facts) string {
	switch {
	case f.Dir:
		return "a folder"
	case f.Regular:
		return "a file"
	}
	return "neither file nor folder"
}

// LeftAlone says in words why no rule even considers a name: it is hidden, a
// part-file, a marker. "" if it is none of these.
func (s *Set) LeftAlone(path string) string {
	name := filepath.Base(path)
	never := neverList()
	switch {
	case within(path, s.state):
		return "it is in the state folder"
	case s.texts[path]:
		return "it is the rules file itself"
	case s.marker(path):
		return "it is the companion that says another file is done"
	case strings.HasSuffix(name, NoteEnding):
		return "it is a failure note"
	case s.ignores(name, name):
		return "ignore: holds its name"
	case never.Fits(name, name):
		return "it is a part-file, swap file or lock file"
	case strings.HasPrefix(name, "."):
		return "it is hidden"
	}
	return ""
}
