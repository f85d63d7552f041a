// Package notation reads rules files: YAML becomes the model of package rule, and what is wrong
// in it becomes diagnostics with their places, a sentence, and the nearest right word.
//
// The struct tags of the model say which keys there are; how the value of a type is written
// stands here. Package schema describes both, package diag is what is said of errors.
package notation

import (
	"fmt"
	"maps"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/goccy/go-yaml/ast"

	"stilltide/internal/core/diag"
	"stilltide/internal/core/dispatch"
	"stilltide/internal/core/file"
	"stilltide/internal/core/fill"
	"stilltide/internal/core/pattern"
	"stilltide/internal/core/rule"
	"stilltide/internal/core/settle"
)

// entries keeps the nodes of `rules` until `defaults` is known.
type entries struct {
	nodes []ast.Node
	pos   rule.Pos
}

func readEntries(d *decoder, n ast.Node, _ *rule.Entries) {
	list, ok := n.(*ast.SequenceNode)
	if !ok {
		d.wrongType(n, "rules", "a list, each entry beginning with - name:")
		return
	}
	d.entries = entries{list.Values, d.pos(n)}
}

// Parse reads a rules file without the ones that it includes; a file that
// names others needs ParseAll.
func Parse(path string, src []byte) (*rule.File, diag.List) {
	return ParseAll(path, src, rule.Machine{})
}

// ParseAll reads a rules file and what it names. path names it in messages and gives the folder
// that relative paths start at, so it should be absolute. The file is usable
// only if the diagnostics hold no error.
func ParseAll(path string, src []byte, on rule.Machine) (*rule.File, diag.List) {
	f := &rule.File{Path: path, Base: filepath.Dir(path), Machine: on}
	d := newDecoder(path, on, src)
	if root := d.tree(src); root != nil {
		f.Defaults = newRule()
		d.into(root, reflectOf(f), "the rules file")
		d.header(f, root)
		d.fixedVars(f, on.Load)
		f.State = d.put(f.State)
		d.noticeKeys(f)
		d.fleet(f)
		d.categories(f)
		named := map[string]rule.Pos{}
		d.rules(f, f.Defaults, named)
		d.entries = entries{} // the nodes hold the whole tree, which is large
		d.more(f, on.Load, named)
		d.nothing(f)
	}
	d.diags.Sort()
	return f, d.diags
}

// more reads the files that the rules file names. Each may have defaults
// of its own, on top of the main file's; paths in it start at its own folder.
func (d *decoder) more(f *rule.File, load rule.Load, named map[string]rule.Pos) {
	if load == nil {
		return
	}
	for _, glob := range f.More {
		at := rule.AtHome(d.put(rule.Path{Text: glob}).S, f.Machine.Home)
		if !filepath.IsAbs(at) {
			at = filepath.Join(f.Base, at)
		}
		sources, err := load(at)
		if err != nil {
			d.add(diag.SeverityError, glob.Pos, "more_rules", fmt.Sprintf("%s cannot be read: %v", glob.S, err), "")
			continue
		}
		if len(sources) == 0 {
			d.add(diag.SeverityWarning, glob.Pos, "more_rules", fmt.Sprintf("no file fits %s", glob.S),
				"write one, or remove the pattern")
		}
		for _, src := range sources {
			if src.Path == f.Path {
				continue
			}
			f.Included = append(f.Included, src.Path)
			d.included(f, src, named)
		}
	}
}

func (d *decoder) included(f *rule.File, src rule.Source, named map[string]rule.Pos) {
	inner := newDecoder(src.Path, f.Machine, src.Text)
	inner.words, inner.channels = d.words, d.channels
	part := struct {
		Version  int          `key:"version"`
		Defaults rule.Rule    `key:"defaults"`
		Rules    rule.Entries `key:"rules"`
	}{Defaults: f.Defaults}
	if root := inner.tree(src.Text); root != nil {
		inner.into(root, reflectOf(&part), "a file of more rules")
		inner.rules(f, part.Defaults, named)
	}
	d.diags = append(d.diags, inner.diags...)
}

func (d *decoder) nothing(f *rule.File) {
	if len(f.List) == 0 && !d.diags.Failed() {
		d.errorAtLine(1, 1, "missing", "there is no rule in this file", "add rules: and at least one entry")
	}
}

func (d *decoder) header(f *rule.File, root ast.Node) {
	if _, ok := d.pairs(root); !ok {
		return
	}
	switch {
	case f.Version == 1:
	case f.Version == 0 && d.unread[d.pos(root)]:
	case f.Version == 0:
		d.errorAtLine(1, 1, "missing", "the rules file does not say which version of the notation it uses",
			"begin it with version: 1")
	default:
		d.errorAt(root, "version", fmt.Sprintf("this program reads version 1 of the notation, and this file says "+
			"%d", f.Version), "")
	}
	if len(f.IgnoreAll) > 0 {
		texts := make([]string, len(f.IgnoreAll))
		for i, t := range f.IgnoreAll {
			texts[i] = t.S
		}
		list, at, err := pattern.CompileList(texts, pattern.Options{})
		if err != nil {
			e := err.(*pattern.Error)
			d.errorIn(f.IgnoreAll[at], e.Near, "pattern", e.Message, "")
		}
		f.Ignore = list
	}
	if f.Defaults.Name.Set() {
		d.add(diag.SeverityError, f.Defaults.Name.Pos, "defaults",
			"a name cannot be a default: every rule needs its own", "remove it here")
	}
}

// rules reads a list of rules on top of defaults; named holds the names so far.
func (d *decoder) rules(f *rule.File, defaults rule.Rule, named map[string]rule.Pos) {
	raw := d.entries
	if raw.pos.Line > 0 && len(raw.nodes) == 0 && len(f.More) == 0 {
		d.add(diag.SeverityError, raw.pos, "empty", "there is no rule in this list", "")
	}
	for _, n := range raw.nodes {
		r := defaults
		r.Index = len(f.List)
		d.into(n, reflectOf(&r), "a rule")
		r.Pos = d.pos(n)
		d.finish(f, &r, n)
		if first, ok := named[r.Name.S]; ok && r.Name.Set() {
			where := fmt.Sprintf("on line %d", first.Line)
			if first.File != r.Name.Pos.File {
				where = fmt.Sprintf("in %s on line %d", first.File, first.Line)
			}
			d.add(diag.SeverityError, r.Name.Pos, "twice", fmt.Sprintf("there is another rule named %s, %s", r.Name.S,
				where), "give one of them another name")
		}
		named[r.Name.S] = r.Name.Pos
		f.List = append(f.List, &r)
	}
}

// ruleName reports whether a text can name a rule: letters of any language, digits, _ . - and
// single spaces, beginning with a letter or digit and ending with none of the spaces, at most
// 64 characters.
func ruleName(s string) bool {
	before := ' '
	for i, r := range s {
		letter := unicode.IsLetter(r) || unicode.IsDigit(r) || i > 0 && unicode.IsMark(r)
		if !letter && (i == 0 || !strings.ContainsRune("_.- ", r) || r == ' ' && before == ' ') {
			return false
		}
		before = r
	}
	return before != ' ' && utf8.RuneCountInString(s) <= 64
}

// finish checks one rule and compiles what is in it.
func (d *decoder) finish(f *rule.File, r *rule.Rule, n ast.Node) {
	switch {
	case !r.Name.Set():
		d.lacks(d.pos(n), "this rule has no name", "add name: and a short word")
	case !ruleName(r.Name.S):
		d.add(diag.SeverityError, r.Name.Pos, "name", fmt.Sprintf("%q cannot name a rule", r.Name.S),
			"use letters of any language, digits, -, _, . and single spaces, at most 64, beginning with a letter or "+
				"digit")
	}
	if len(r.Watch) == 0 {
		d.lacks(d.pos(n), "this rule does not say which folder it watches", "add watch: and a folder")
	}
	r.Watch, r.Fixed, r.Home = d.putAll(r.Watch), d.words, d.on.Home
	for _, w := range r.Watch {
		if w.Set() && w.S != "" && !d.watchGlob(r, w) {
			r.Folders = append(r.Folders, w.Absolute())
		}
	}
	d.matcher(r)
	d.units(r)
	d.conditions(r)
	d.knownCategories(f, r)
	d.flow(f, r)
	d.steps(r, n)
	d.pool(f, r)
	d.place(r.Processed, memberWords(r))
	d.place(r.Failed, memberWords(r))
	d.notify(r.Notify, rule.OnFailed, rule.OnProcessed, rule.OnCaughtUp, rule.OnOverdue, rule.OnBlocked)
}

func (d *decoder) matcher(r *rule.Rule) {
	texts := make([]string, len(r.Match))
	for i, m := range r.Match {
		texts[i] = m.S
	}
	list, at, err := d.patterns(texts, pattern.Options{IgnoreCase: r.Case})
	if err != nil {
		e := err.(*pattern.Error)
		d.errorIn(r.Match[at], e.Near, "pattern", e.Message, "")
		list, _, _ = pattern.CompileList(nil, pattern.Options{})
	}
	r.Matcher = list
	for _, m := range r.Match {
		if looksRegular(m.S) {
			d.add(diag.SeverityWarning, m.Pos, "pattern",
				fmt.Sprintf("%q looks like a regular expression, and is read as a plain pattern", m.S),
				"begin it with re: if it is one; in a plain pattern * stands for any characters, [0-9] for one")
		}
	}
	shared, partial := list.Shared()
	for _, w := range append(shared, partial...) {
		if _, fixed := d.words[w]; fixed && len(r.Match) > 0 {
			d.errorIn(r.Match[0], "<"+w, "pattern",
				fmt.Sprintf("%s is one of the file's variables, so no capture can have that name", w),
				"choose another name")
		}
		if isBuiltIn(w) && len(r.Match) > 0 {
			d.errorIn(r.Match[0], "<"+w, "pattern",
				fmt.Sprintf("%s is a built-in placeholder, so no capture can have that name", w),
				"choose another name")
		}
	}
}

// patterns compiles patterns, or finds them compiled for an earlier rule.
func (d *decoder) patterns(texts []string, o pattern.Options) (list *pattern.List, at int, err error) {
	key := fmt.Sprint(o.IgnoreCase, "\x00", strings.Join(texts, "\x00"))
	if list = d.lists[key]; list != nil {
		return list, 0, nil
	}
	if list, at, err = pattern.CompileList(texts, o); err == nil {
		if d.lists == nil {
			d.lists = map[string]*pattern.List{}
		}
		d.lists[key] = list
	}
	return list, at, err
}

// looksRegular reports whether a plain pattern holds what only a regular
// expression would.
func looksRegular(s string) bool {
	if strings.HasPrefix(strings.TrimPrefix(s, "!"), "re:") {
		return false
	}
	for _, mark := range []string{"]+", ")+", `\d`, `\w`, `\s`, "(?", ".+"} {
		if strings.Contains(s, mark) {
			return true
		}
	}
	return strings.HasPrefix(s, "^") || strings.HasSuffix(s, "$")
}

func (d *decoder) command(t rule.Text, words []string) *fill.Command {
	c, err := fill.ParseCommand(t.S)
	if err != nil {
		e := err.(*fill.Error)
		d.errorIn(t, e.Near, "command", e.Message, e.Hint)
		return nil
	}
	for i, w := range c.Words {
		if c.Words[i], err = w.With(d.words); err != nil {
			d.add(diag.SeverityError, t.Pos, "placeholder", err.Error(), "")
			return nil
		}
		d.known(t, c.Words[i], words)
	}
	return c
}

// known reports the placeholders of a template that no rule of this kind has.
func (d *decoder) known(t rule.Text, tmpl *fill.Template, words []string) {
	for _, ref := range tmpl.Refs() {
		if !Contains(words, ref.Word) {
			words := append(slices.Clone(words), slices.Sorted(maps.Keys(d.words))...)
			hint := "the placeholders here are " + strings.Join(words, ", ")
			if Contains(words, "files") && Contains(fileOnly, ref.Word) {
				hint = "a batch or group has many files: use {files}, or {list} for a file that lists them"
			} else if other := diag.OtherWords[ref.Word]; Contains(words, other) {
				hint = "it is {" + other + "}"
			} else if near := diag.Nearest(ref.Word, words); near != "" {
				hint = "did you mean {" + near + "}?"
			}
			d.errorIn(t, ref.Raw, "unknown-placeholder", fmt.Sprintf("there is no placeholder {%s}", ref.Word),
				hint)
			continue
		}
		d.format(t, ref)
		if ref.Format != "" && isBuiltIn(ref.Word) && !Contains(dateWords, ref.Word) {
			d.errorIn(t, ref.Raw, "placeholder-format", fmt.Sprintf("{%s} is not a date, so it takes no format",
				ref.Word), "write {"+ref.Word+"}")
		}
	}
}

// letters are those that a date's format may have after its % (strftime(3), and L, f, N for parts
// of a second).
const letters = "aAbBcCdDeFgGhHIjklLmMnNpPrRsStTuUVwWxXyYzZf%+"

// format warns of a date format without any part of a date, or with an unknown letter.
func (d *decoder) format(t rule.Text, ref *fill.Ref) {
	if ref.Format == "" {
		return
	}
	warn := func(message, hint string) {
		d.add(diag.SeverityWarning, d.find(t.Pos, ref.Raw), "date-format", message, hint)
	}
	if !strings.Contains(ref.Format, "%") {
		warn(fmt.Sprintf("the format %s holds no %%, so it is filled as it stands", ref.Format),
			fmt.Sprintf("write {%s:%%Y-%%m-%%d} for a date (strftime)", ref.Word))
		return
	}
	for i := 0; i < len(ref.Format)-1; i++ {
		if ref.Format[i] != '%' {
			continue
		}
		if i++; strings.IndexByte("-:", ref.Format[i]) >= 0 && i < len(ref.Format)-1 {
			i++
		}
		if strings.IndexByte(letters, ref.Format[i]) < 0 {
			warn(fmt.Sprintf("a date has no %%%c (strftime)", ref.Format[i]),
				"the usual ones are %Y %m %d %H %M %S, %B for the month's name, %j for the day of the year")
		}
	}
}

func (d *decoder) place(p *rule.Place, words []string) {
	if p == nil || !p.To.Set() {
		return
	}
	if p.Folder = d.template(p.To.Text, words); p.Folder != nil && len(p.Folder.Refs()) == 0 {
		if text, err := p.Folder.FillPath(nil); err == nil {
			p.Fixed = rule.Path{Text: rule.Text{S: text}, Base: p.To.Base}.Absolute()
		}
	}
	if !p.As.Set() {
		return
	}
	p.Name = d.nameTemplate(p.As, words, "as:")
}

func (d *decoder) template(t rule.Text, words []string) *fill.Template {
	tmpl, err := fill.Parse(t.S)
	if err != nil {
		e := err.(*fill.Error)
		d.errorIn(t, e.Near, "placeholder", e.Message, e.Hint)
		return nil
	}
	if tmpl, err = tmpl.With(d.words); err != nil {
		d.add(diag.SeverityError, t.Pos, "placeholder", err.Error(), "")
		return nil
	}
	d.known(t, tmpl, words)
	return tmpl
}

func Contains(list []string, word string) bool {
	for _, w := range list {
		if w == word {
			return true
		}
	}
	return false
}

func reflectOf(p any) reflect.Value { return reflect.ValueOf(p).Elem() }

func newRule() rule.Rule {
	return rule.Rule{
		Takes: rule.Takes{Enabled: true, Existing: rule.ExistingTake, Unit: rule.UnitFile,
			Events: []rule.Event{rule.Event(file.Added), rule.Event(file.Changed)}},
		Waits: rule.Waits{Debounce: rule.Duration{Duration: 500 * time.Millisecond}, Running: rule.RunFinishFirst,
			Ready: rule.Ready{Writers: rule.WritersWait, Overdue: rule.Overdue(settle.OverdueWait)}},
		Works:  rule.Works{Retry: rule.DefaultRetry(), Again: rule.AgainChanged, Loops: rule.LoopsStop},
		Starts: rule.Starts{Order: rule.Order(dispatch.ByArrival), WhileAway: rule.AwayHold},
		Ends:   rule.Ends{SameName: rule.SameNumber},
	}
}

var dateWords = []string{"modified", "now", "shot", "created"}

func isBuiltIn(w string) bool { return slices.Contains(rule.BuiltIn(), w) }
