package rule

import (
	"fmt"
	"path/filepath"
	"regexp"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"stilltide/internal/core/fill"
	"stilltide/internal/core/pattern"
)

// rawRules keeps the nodes of `rules` until `defaults` is known.
type rawRules struct {
	nodes []ast.Node
	pos   Pos
}

func (r *rawRules) fromNode(d *decoder, n ast.Node) {
	list, ok := n.(*ast.SequenceNode)
	if !ok {
		d.wrongType(n, "rules", "a list, each entry beginning with - name:")
		return
	}
	r.nodes, r.pos = list.Values, d.pos(n)
}

// Parse reads a rules file. path names it in messages and gives the folder
// that relative paths start at, so it should be absolute. The file is usable
// only if the diagnostics hold no error.
func Parse(path string, src []byte) (*File, Diagnostics) {
	f := &File{Path: path, Base: filepath.Dir(path)}
	d := newDecoder(path, f.Base, src)
	if root := d.tree(src); root != nil {
		f.Defaults = newRule()
		d.into(root, reflectOf(f), "the rules file")
		d.header(f, root)
		d.rules(f)
	}
	d.diags.Sort()
	return f, d.diags
}

func (d *decoder) header(f *File, root ast.Node) {
	if _, ok := d.pairs(root); !ok {
		return
	}
	switch f.Version {
	case 1:
	case 0:
		d.errorAtLine(1, 1, "missing", "the rules file does not say which version of the notation it uses", "begin it with version: 1")
	default:
		d.errorAt(root, "version", fmt.Sprintf("this program reads version 1 of the notation, and this file says %d", f.Version), "")
	}
	if f.Defaults.Name.Set() {
		d.add(SeverityError, f.Defaults.Name.Pos, "defaults", "a name cannot be a default: every rule needs its own", "remove it here")
	}
}

func (d *decoder) rules(f *File) {
	if f.Rules.pos.Line > 0 && len(f.Rules.nodes) == 0 {
		d.add(SeverityError, f.Rules.pos, "empty", "there is no rule in this file", "")
	}
	if f.Rules.pos.Line == 0 && !d.diags.Failed() {
		d.errorAtLine(1, 1, "missing", "there is no rule in this file", "add rules: and at least one entry")
	}
	named := map[string]Pos{}
	for i, n := range f.Rules.nodes {
		r := f.Defaults
		r.Index = i
		d.into(n, reflectOf(&r), "a rule")
		r.Pos = d.pos(n)
		d.finish(f, &r, n)
		if first, ok := named[r.Name.S]; ok && r.Name.Set() {
			d.add(SeverityError, r.Name.Pos, "twice", fmt.Sprintf("there is another rule named %s, on line %d", r.Name.S, first.Line), "give one of them another name")
		}
		named[r.Name.S] = r.Name.Pos
		f.list = append(f.list, &r)
	}
}

var ruleName = regexp.MustCompile(`^[\p{L}\p{N}][\p{L}\p{N}_.-]{0,63}$`)

// finish checks one rule and compiles what is in it.
func (d *decoder) finish(f *File, r *Rule, n ast.Node) {
	switch {
	case !r.Name.Set():
		d.errorAt(n, "missing", "this rule has no name", "add name: and a short word")
	case !ruleName.MatchString(r.Name.S):
		d.add(SeverityError, r.Name.Pos, "name", fmt.Sprintf("%q cannot name a rule", r.Name.S), "use letters, digits, -, _ and ., beginning with a letter or digit, at most 64")
	}
	if len(r.Watch) == 0 {
		d.errorAt(n, "missing", "this rule does not say which folder it watches", "add watch: and a folder")
	}
	for _, w := range r.Watch {
		if w.Set() && w.S != "" {
			r.Folders = append(r.Folders, w.Absolute())
		}
	}
	d.matcher(r)
	d.units(r)
	d.flow(f, r)
	d.steps(r, n)
	words := stepWords(r)
	for i := range r.Steps {
		d.step(&r.Steps[i], words)
	}
	d.place(r.Processed, memberWords(r))
	d.place(r.Failed, memberWords(r))
}

func (d *decoder) matcher(r *Rule) {
	texts := make([]string, len(r.Match))
	for i, m := range r.Match {
		texts[i] = m.S
	}
	list, at, err := pattern.CompileList(texts, pattern.Options{})
	if err != nil {
		e := err.(*pattern.Error)
		d.errorIn(r.Match[at], e.Near, "pattern", e.Message, "")
		list, _, _ = pattern.CompileList(nil, pattern.Options{})
	}
	r.Matcher = list
	shared, partial := list.Shared()
	for _, w := range append(shared, partial...) {
		if isBuiltIn(w) && len(r.Match) > 0 {
			d.errorIn(r.Match[0], "<"+w, "pattern", fmt.Sprintf("%s is a built-in placeholder, so no capture can have that name", w), "choose another name")
		}
	}
}

// steps gives Steps its value from do, run or script.
func (d *decoder) steps(r *Rule, n ast.Node) {
	ways := 0
	for _, set := range []bool{len(r.Do) > 0, r.Run.Set(), r.Script.Set()} {
		if set {
			ways++
		}
	}
	if ways > 1 {
		d.errorAt(n, "verbs", "a rule has one of do, run and script, and this one has several", "put the steps in a list under do:")
	}
	r.Steps = append([]Step(nil), r.Do...)
	if len(r.Do) == 0 && (r.Run.Set() || r.Script.Set()) {
		r.Steps = []Step{{Run: r.Run, Script: r.Script, Pos: r.Run.Pos}}
		if r.Script.Set() {
			r.Steps[0].Pos = r.Script.Pos
		}
	}
	for i := range r.Steps {
		r.Steps[i].Base = d.base
	}
}

func (d *decoder) step(s *Step, words []string) {
	switch {
	case s.Run.Set() && s.Script.Set():
		d.add(SeverityError, s.Pos, "verbs", "a step has one verb, and this one has both run and script", "make two steps of it")
	case s.Run.Set():
		s.Command = d.command(s.Run, words)
	case s.Script.Set():
		if strings.TrimSpace(s.Script.S) == "" {
			d.add(SeverityError, s.Script.Pos, "empty", "the script is empty", "")
		}
		if s.Interpreter.Set() {
			s.Shell = d.command(s.Interpreter, words)
		}
	default:
		d.add(SeverityError, s.Pos, "verbs", "this step has no verb", "begin it with run: or script:")
	}
}

func (d *decoder) command(t Text, words []string) *fill.Command {
	c, err := fill.ParseCommand(t.S)
	if err != nil {
		e := err.(*fill.Error)
		d.errorIn(t, e.Near, "command", e.Message, e.Hint)
		return nil
	}
	for _, w := range c.Words {
		d.known(t, w, words)
	}
	return c
}

// known reports the placeholders of a template that no rule of this kind has.
func (d *decoder) known(t Text, tmpl *fill.Template, words []string) {
	for _, ref := range tmpl.Refs() {
		if !contains(words, ref.Word) {
			hint := "the placeholders here are " + strings.Join(words, ", ")
			if contains(words, "files") && contains(fileOnly, ref.Word) {
				hint = "a burst or set has many files: use {files}, or {list} for a file that lists them"
			} else if near := Nearest(ref.Word, words); near != "" {
				hint = "did you mean {" + near + "}?"
			}
			d.errorIn(t, ref.Raw, "unknown-placeholder", fmt.Sprintf("there is no placeholder {%s}", ref.Word), hint)
			continue
		}
		if ref.Format != "" && isBuiltIn(ref.Word) && !contains(dateWords, ref.Word) {
			d.errorIn(t, ref.Raw, "placeholder-format", fmt.Sprintf("{%s} is not a date, so it takes no format", ref.Word), "write {"+ref.Word+"}")
		}
	}
}

func (d *decoder) place(p *Place, words []string) {
	if p == nil || !p.To.Set() {
		return
	}
	p.Folder = d.template(p.To.Text, words)
	if !p.As.Set() {
		return
	}
	if strings.Contains(p.As.S, "/") {
		d.errorIn(p.As, "/", "name", "as: is a name, and a name holds no /", "put folders into to:")
	}
	p.Name = d.template(p.As, words)
}

func (d *decoder) template(t Text, words []string) *fill.Template {
	tmpl, err := fill.Parse(t.S)
	if err != nil {
		e := err.(*fill.Error)
		d.errorIn(t, e.Near, "placeholder", e.Message, e.Hint)
		return nil
	}
	d.known(t, tmpl, words)
	return tmpl
}

func contains(list []string, word string) bool {
	for _, w := range list {
		if w == word {
			return true
		}
	}
	return false
}

// builtIn are the placeholders that every rule has.
var builtIn = []string{"file", "name", "stem", "ext", "dir", "watch", "rel", "reldir", "size", "event", "hash", "rule", "job", "attempt", "scratch", "modified", "clock"}

var dateWords = []string{"modified", "clock"}

// BuiltIn lists the placeholders that every rule has.
func BuiltIn() []string { return append([]string(nil), builtIn...) }

func isBuiltIn(w string) bool { return contains(builtIn, w) }
