package rule

import (
	"fmt"
	"reflect"
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"stilltide/internal/core/expr"
	"stilltide/internal/core/fill"
)

// Act is a verb with the values of its own keys. Each verb is a type of its own, in a file
// of package work: what it checks, foretells and does stands together there.
type Act interface {
	// Check compiles what the step fills, and notes what is wrong with it.
	Check(c *Checker)
}

// Verb is what the notation, and those who decide, know of a kind of step.
type Verb struct {
	Name    string
	New     func() Act // a pointer to a struct whose tags name its own keys, the verb itself among them
	Options []string   // keys that it shares with other verbs, besides where and timeout
	Needs   []string   // keys without which it says nothing

	Program bool   // it starts a program
	Takes   Taking // whether the job's file is taken from where it is
	Puts    Putting
	InPlace bool // it works in the folder that the file is in
	SameRel bool // it puts things at the same path below a destination as the file has below its watched folder
	Removal bool // it has something to do for a file that was removed
	Apart   bool // it can be done when the job's file is gone
	Files   Suits
}

// Taking says whether a step takes the job's file from where it is.
type Taking int

const (
	TakesNothing    Taking = iota
	TakesUnlessFrom        // from names other files
	TakesInput
)

// Putting says what a step puts at its destination.
type Putting int

const (
	PutsNothing Putting = iota
	PutsFile            // the file, or a copy of it, perhaps under another name
	PutsOwn             // a file of its own
	PutsMany            // files whose names only a run can tell
)

// Suits says for which rules a step is.
type Suits int

const (
	SuitsAll    Suits = iota
	SuitsFiles        // not for whole folders
	SuitsSingle       // not for whole folders, batches and groups
)

// verbs are in the order of the reference.
var verbs []Verb

// Register makes verbs known, in the order of the reference. Package work does so for all
// of them before the program begins; a name that is there already is a mistake in it.
func Register(list ...Verb) {
	for _, v := range list {
		if verbNamed(v.Name) != nil {
			panic("rule: the verb " + v.Name + " is registered twice")
		}
		verbs = append(verbs, v)
	}
}

func verbNamed(name string) *Verb {
	i := slices.IndexFunc(verbs, func(v Verb) bool { return v.Name == name })
	if i < 0 {
		return nil
	}
	return &verbs[i]
}

// ownKeys are the keys of the verb's own type and the fields that hold them; the verb's name
// is among them, unless the step itself has it.
func (v *Verb) ownKeys() map[string][]int { return fieldsOf(reflect.TypeOf(v.New()).Elem()) }

// keys are the options that go with the verb, besides where and timeout.
func (v *Verb) keys() (keys []string) {
	for _, f := range reflect.VisibleFields(reflect.TypeOf(v.New()).Elem()) {
		if key := f.Tag.Get("key"); key != "" && key != v.Name {
			keys = append(keys, key)
		}
	}
	return append(keys, v.Options...)
}

// takes reports whether a key goes with the verb.
func (v *Verb) takes(key string) bool {
	_, own := v.ownKeys()[key]
	return own || key == v.Name || slices.Contains(v.Options, key)
}

// verbsWith lists the verbs with which a key goes.
func verbsWith(key string) (names []string) {
	for i := range verbs {
		if verbs[i].takes(key) {
			names = append(names, verbs[i].Name)
		}
	}
	return names
}

// Checker checks a step, and compiles what it fills.
type Checker struct {
	Rule  *Rule
	Step  *Step
	Words []string // the placeholders of the steps
	Each  []string // those that are filled for each file: of what is done for each file of a batch or group

	d *decoder
}

// Fill compiles a template that is filled with some words.
func (c *Checker) Fill(t Text, words []string) *fill.Template {
	made := c.d.template(t, words)
	c.Step.filled = append(c.Step.filled, made)
	return made
}

// Command compiles the words of a command.
func (c *Checker) Command(t Text) *fill.Command {
	made := c.d.command(t, c.Words)
	if made != nil {
		c.Step.filled = append(c.Step.filled, made.Words...)
	}
	return made
}

// Name compiles a name, which holds no slash; key says where it stands.
func (c *Checker) Name(t Text, key string) {
	c.Step.Name = c.d.nameTemplate(t, c.Each, key+":")
	c.Step.filled = append(c.Step.filled, c.Step.Name)
}

// Into compiles the destination of the step, and the name there if as: gives one.
func (c *Checker) Into(p Path) {
	c.Step.To, c.Step.Folder = &p, c.Fill(p.Text, c.Each)
	if c.Step.As.Set() {
		c.Name(c.Step.As, "as")
	}
}

// FileGoesOn reports whether the job's file goes elsewhere after the step: by a later one, or
// because the rule says where it ends.
func (c *Checker) FileGoesOn() bool {
	after := false
	for i := range c.Rule.Steps {
		s := &c.Rule.Steps[i]
		if after && s.verb != nil && s.TakesInput() {
			return true
		}
		after = after || s == c.Step
	}
	return c.Rule.Processed != nil
}

// Error notes an error at a place.
func (c *Checker) Error(at Pos, code, message, hint string) {
	c.d.add(SeverityError, at, code, message, hint)
}

// ErrorAt notes an error at a key of the step, if that is written.
func (c *Checker) ErrorAt(key, code, message, hint string) {
	if at, written := c.Step.keys[key]; written {
		c.Error(at, code, message, hint)
	}
}

// Constant returns a text with the file's own placeholders filled.
func (c *Checker) Constant(t Text) string { return c.d.put(Path{Text: t}).S }

// Channel checks that a channel is known.
func (c *Checker) Channel(t Text) { c.d.knownChannel(t, c.Step.Pos, c.Step.Verb()) }

// begin finds the verb of a step and makes the values of its keys. The values of the keys
// of other verbs are read, too, for the sake of what is wrong with them.
func (s *Step) begin(pairs []*ast.MappingValueNode) map[string]reflect.Value {
	written := map[string]bool{}
	for _, p := range pairs {
		written[p.Key.GetToken().Value] = true
	}
	values := map[string]reflect.Value{}
	own := func(v *Verb) Act {
		act := v.New()
		for key, index := range v.ownKeys() {
			if _, there := values[key]; !there {
				values[key] = reflect.ValueOf(act).Elem().FieldByIndex(index)
			}
		}
		return act
	}
	for i := range verbs {
		if written[verbs[i].Name] && s.verb == nil {
			s.verb = &verbs[i]
			s.Act = own(s.verb)
		}
	}
	for i := range verbs {
		own(&verbs[i])
	}
	return values
}

// verb checks that a step has one verb, and that its options belong to that.
func (d *decoder) verb(s *Step) bool {
	var found, all []string
	for _, v := range verbs {
		all = append(all, v.Name)
		if _, ok := s.keys[v.Name]; ok {
			found = append(found, v.Name)
		}
	}
	switch {
	case len(found) == 0:
		d.add(SeverityError, s.Pos, "verbs", "this step has no verb", "begin it with one of "+
			strings.Join(all, ", "))
		return false
	case len(found) > 1:
		d.add(SeverityError, s.Pos, "verbs", fmt.Sprintf("a step has one verb, and this one has %s",
			strings.Join(found, " and ")), "make two steps of it")
		return false
	}
	for key, at := range s.keys {
		if key != "where" && key != "timeout" && !s.verb.takes(key) {
			d.add(SeverityError, at, "option", fmt.Sprintf("%s does not go with %s", key, s.Verb()),
				"it goes with "+strings.Join(verbsWith(key), ", "))
		}
	}
	return true
}

// step compiles one step. saved are the words that earlier steps save.
func (d *decoder) step(r *Rule, s *Step, env expr.Env, saved []string) {
	c := &Checker{Rule: r, Step: s, d: d}
	c.Words = append(stepWords(r), saved...)
	c.Each = append(memberWords(r), saved...)
	s.filled, s.Sources = nil, nil
	if s.Where.Set() {
		s.Where.Program = d.expression(env.ForSteps(), s.Where.Text, "bool")
	}
	for _, from := range s.From {
		s.Sources = append(s.Sources, c.Fill(from.Text, c.Each))
	}
	s.Act.Check(c)
	for _, key := range s.verb.Needs {
		if _, written := s.keys[key]; !written {
			d.add(SeverityError, s.Pos, "missing", fmt.Sprintf("%s needs %s:", s.Verb(),
				strings.Join(s.verb.Needs, ": and ")), "")
			break
		}
	}
	s.filled = slices.DeleteFunc(s.filled, func(t *fill.Template) bool { return t == nil })
}

// beside checks what a step means beside the rule.
func (d *decoder) beside(r *Rule, s *Step) {
	v, at := s.verb, s.keys[s.Verb()]
	bad := func(code, message, hint string) { d.add(SeverityError, at, code, message, hint) }
	if r.Share && s.TakesInput() {
		bad("share", fmt.Sprintf("a rule that shares its files with later ones cannot take them away: it has %s",
			v.Name), "remove one of the two")
	}
	if r.Folded() && v.Files != SuitsAll {
		bad("folders", v.Name+" is for files, and this rule takes folders", "write unit: file, or use a script")
	}
	if r.Gather != nil && v.Files == SuitsSingle {
		bad("gather", v.Name+" is for single files, and this rule gathers many",
			"remove batch: or group:, or use a script")
	}
	if v.Removal && !r.eventsWritten {
		r.Events = everyEvent()
	}
}
