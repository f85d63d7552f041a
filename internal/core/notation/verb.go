package notation

import (
	"fmt"
	"reflect"
	"slices"
	"strings"

	"stilltide/internal/core/diag"
	"stilltide/internal/core/expr"
	"stilltide/internal/core/fill"
	"stilltide/internal/core/rule"
)

// Checked is what the notation asks of a verb.
type Checked interface {
	// Check compiles what the step fills, and notes what is wrong with it.
	Check(c *Checker)
}

// Checker checks a step, and compiles what it fills.
type Checker struct {
	Rule  *rule.Rule
	Step  *rule.Step
	Words []string // the placeholders of the steps
	Each  []string // those that are filled for each file: of what is done for each file of a batch or group

	d *decoder
}

// Fill compiles a template that is filled with some words.
func (c *Checker) Fill(t rule.Text, words []string) *fill.Template {
	made := c.d.template(t, words)
	c.Step.Filled = append(c.Step.Filled, made)
	return made
}

// Command compiles the words of a command.
func (c *Checker) Command(t rule.Text) *fill.Command {
	made := c.d.command(t, c.Words)
	if made != nil {
		c.Step.Filled = append(c.Step.Filled, made.Words...)
	}
	return made
}

// Name compiles a name, which holds no slash; key says where it stands.
func (c *Checker) Name(t rule.Text, key string) {
	c.Step.Name = c.d.nameTemplate(t, c.Each, key+":")
	c.Step.Filled = append(c.Step.Filled, c.Step.Name)
}

// Into compiles the destination of the step, and the name there if as: gives one.
func (c *Checker) Into(p rule.Path) {
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
		if after && s.Kind() != nil && s.TakesInput() {
			return true
		}
		after = after || s == c.Step
	}
	return c.Rule.Processed != nil
}

// Error notes an error at a place.
func (c *Checker) Error(at rule.Pos, code, message, hint string) {
	c.d.add(diag.SeverityError, at, code, message, hint)
}

// ErrorAt notes an error at a key of the step, if that is written.
func (c *Checker) ErrorAt(key, code, message, hint string) {
	if at, written := c.Step.Keys[key]; written {
		c.Error(at, code, message, hint)
	}
}

// Constant returns a text with the file's own placeholders filled.
func (c *Checker) Constant(t rule.Text) string { return c.d.put(rule.Path{Text: t}).S }

// Channel checks that a channel is known.
func (c *Checker) Channel(t rule.Text) { c.d.knownChannel(t, c.Step.Pos, c.Step.Verb()) }

// begin finds the verb of a step and makes the values of its keys. The values of the keys
// of other verbs are read, too, for the sake of what is wrong with them.
func begin(s *rule.Step, keys []string) map[string]reflect.Value {
	values := map[string]reflect.Value{}
	own := func(v *rule.Verb) rule.Act {
		act := v.New()
		for key, index := range v.OwnKeys() {
			if _, there := values[key]; !there {
				values[key] = reflect.ValueOf(act).Elem().FieldByIndex(index)
			}
		}
		return act
	}
	for i := range rule.Verbs {
		if slices.Contains(keys, rule.Verbs[i].Name) && s.Kind() == nil {
			s.Be(&rule.Verbs[i])
			s.Act = own(s.Kind())
		}
	}
	for i := range rule.Verbs {
		own(&rule.Verbs[i])
	}
	return values
}

// verb checks that a step has one verb, and that its options belong to that.
func (d *decoder) verb(s *rule.Step) bool {
	var found []string
	for _, name := range rule.VerbNames() {
		if _, ok := s.Keys[name]; ok {
			found = append(found, name)
		}
	}
	switch {
	case len(found) == 0 && d.unread[s.Pos]:
		return false
	case len(found) == 0:
		d.add(diag.SeverityError, s.Pos, "verbs", "this step has no verb", "begin it with one of "+
			strings.Join(rule.VerbNames(), ", "))
		return false
	case len(found) > 1:
		d.add(diag.SeverityError, s.Pos, "verbs", fmt.Sprintf("a step has one verb, and this one has %s",
			strings.Join(found, " and ")), "make two steps of it")
		return false
	}
	for key, at := range s.Keys {
		if key != "where" && key != "timeout" && !s.Kind().Has(key) {
			d.add(diag.SeverityError, at, "option", fmt.Sprintf("%s does not go with %s", key, s.Verb()),
				"it goes with "+strings.Join(rule.VerbsWith(key), ", "))
		}
	}
	return true
}

// step compiles one step. saved are the words that earlier steps save.
func (d *decoder) step(r *rule.Rule, s *rule.Step, env expr.Env, saved []string) {
	c := &Checker{Rule: r, Step: s, d: d}
	c.Words = append(stepWords(r), saved...)
	c.Each = append(memberWords(r), saved...)
	s.Filled, s.Sources = nil, nil
	if s.Where.Set() {
		s.Where.Program = d.expression(env.ForSteps(), s.Where.Text, "bool")
	}
	for _, from := range s.From {
		s.Sources = append(s.Sources, c.Fill(from.Text, c.Each))
	}
	s.Act.(Checked).Check(c)
	for _, key := range s.Kind().Needs {
		if _, written := s.Keys[key]; !written {
			d.lacks(s.Pos, fmt.Sprintf("%s needs %s:", s.Verb(),
				strings.Join(s.Kind().Needs, ": and ")), "")
			break
		}
	}
	s.Filled = slices.DeleteFunc(s.Filled, func(t *fill.Template) bool { return t == nil })
}

// beside checks what a step means beside the rule.
func (d *decoder) beside(r *rule.Rule, s *rule.Step) {
	v, at := s.Kind(), s.Keys[s.Verb()]
	bad := func(code, message, hint string) { d.add(diag.SeverityError, at, code, message, hint) }
	if r.Share && s.TakesInput() {
		bad("share", fmt.Sprintf("a rule that shares its files with later ones cannot take them away: it has %s",
			v.Name), "remove one of the two")
	}
	if r.Folded() && v.Files != rule.SuitsAll {
		bad("folders", v.Name+" is for files, and this rule takes folders", "write unit: file, or use a script")
	}
	if r.Gather != nil && v.Files == rule.SuitsSingle {
		bad("gather", v.Name+" is for single files, and this rule gathers many",
			"remove batch: or group:, or use a script")
	}
	if v.Removal && !r.EventsWritten {
		r.Events = everyEvent()
	}
}
