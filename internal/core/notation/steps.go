package notation

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"sync"

	"github.com/goccy/go-yaml/ast"

	"stilltide/internal/core/diag"
	"stilltide/internal/core/file"
	"stilltide/internal/core/fill"
	"stilltide/internal/core/pattern"
	"stilltide/internal/core/rule"
)

func readSameName(d *decoder, n ast.Node, v *rule.SameName) {
	*v = rule.SameName(choose(d, n, "same_name", "number", "replace", "skip", "fail"))
}

func readStdin(d *decoder, n ast.Node, v *rule.Stdin) { *v = rule.Stdin(choose(d, n, "stdin", "file")) }

func readCodeRange(d *decoder, n ast.Node, v *rule.CodeRange) {
	s, _ := d.scalar(n)
	low, top, ranged := strings.Cut(s, "..")
	if !ranged {
		top = low
	}
	first, err := strconv.Atoi(low)
	last, topErr := strconv.Atoi(top)
	if err != nil || topErr != nil || first < 0 || first > last {
		d.errorAt(n, "codes", fmt.Sprintf("%q is no code and no range of codes", s),
			"write a number such as 98, or a range such as 200..299")
		return
	}
	*v = rule.CodeRange{Low: first, Top: last}
}

func readPercent(d *decoder, n ast.Node, v *rule.Percent) {
	s, _ := d.scalar(n)
	number, ok := strings.CutSuffix(s, "%")
	part, err := strconv.ParseFloat(strings.TrimSpace(number), 64)
	if !ok || err != nil || !(part >= 0 && part < 100) {
		d.errorAt(n, "percent", fmt.Sprintf("%q is not a percentage", s),
			"write a number from 0 to less than 100 and a percent sign, such as 1%")
		return
	}
	*v = rule.Percent(part)
}

// steps gives Steps its value from do, run or script.
func (d *decoder) steps(r *rule.Rule, n ast.Node) {
	ways := 0
	for _, set := range []bool{len(r.Do) > 0, r.Run.Set(), r.Script.Set()} {
		if set {
			ways++
		}
	}
	if ways > 1 {
		d.errorAt(n, "verbs", "a rule has one of do, run and script, and this one has several",
			"put the steps in a list under do:")
	}
	r.Steps = append([]rule.Step(nil), r.Do...)
	if len(r.Do) == 0 && r.Run.Set() {
		r.Steps = []rule.Step{{Run: r.Run, Pos: r.Run.Pos, Keys: map[string]rule.Pos{"run": r.Run.Pos}}}
		r.Steps[0].Become("run")
	} else if len(r.Do) == 0 && r.Script.Set() {
		r.Steps = []rule.Step{{Script: r.Script, Pos: r.Script.Pos, Keys: map[string]rule.Pos{"script": r.Script.Pos}}}
		r.Steps[0].Become("script")
	}
	env, saved := r.Env, []string(nil)
	for i := range r.Steps {
		s := &r.Steps[i]
		s.Base = d.base
		if d.verb(s) {
			d.step(r, s, env, saved)
		}
		for _, word := range s.Save.Words {
			if d.savedWord(r, word, saved) {
				saved = append(saved, word.S)
				env = env.WithText(word.S)
			}
		}
	}
	r.Saved = saved
	for i := range r.Steps {
		if s := &r.Steps[i]; s.Kind() != nil {
			d.beside(r, s)
		}
	}
}

// Program compiles what run and script fill.
func (c *Checker) Program() {
	s := c.Step
	switch {
	case !s.Script.Set():
		s.Command = c.Command(s.Run)
	case strings.TrimSpace(s.Script.S) == "":
		c.Error(s.Script.Pos, "empty", "the script is empty", "")
	default:
		c.d.unfilled(s.Script, c.Words)
	}
	if s.Interpreter.Set() {
		s.Shell = c.Command(s.Interpreter)
	}
	if s.WorkingFolder.Set() {
		s.WorkingIn = c.Fill(s.WorkingFolder.Text, c.Words)
	}
	if s.Stdout.Set() {
		s.To, s.Folder = &s.Stdout, c.Fill(s.Stdout.Text, c.Words)
		if s.Save.Set() {
			c.ErrorAt("save", "option", "save and stdout do not go together", "keep one of them")
		}
	}
	if s.Stdin != "" && Contains(c.Words, "files") {
		c.ErrorAt("stdin", "option", "stdin: file is for single files, and this rule gathers many", "use {list}")
	}
}

// unfilled warns of placeholders in a script: its text is not filled.
func (d *decoder) unfilled(t rule.Text, words []string) {
	for _, m := range scriptWord().FindAllStringSubmatch(t.S, -1) {
		word := strings.Trim(m[1], "{}")
		if !Contains(words, word) && d.words[word] == "" {
			continue
		}
		hint := "write \"$TIDE_" + strings.ToUpper(word) + "\": every placeholder is in the environment"
		if word == "file" {
			hint = "write \"$1\": it is the file"
		}
		d.add(diag.SeverityWarning, d.find(t.Pos, m[1]), "unfilled", "nothing is filled into the text of a script, so "+
			m[1]+" stays as it is", hint)
		return
	}
}

// nameTemplate compiles a name; a name holds no slash.
func (d *decoder) nameTemplate(t rule.Text, words []string, key string) *fill.Template {
	if strings.Contains(t.S, "/") {
		d.errorIn(t, "/", "name", key+" is a name, and a name holds no /", "put folders into the destination")
	}
	tmpl := d.template(t, words)
	for _, ref := range refsOf(tmpl) {
		if ref.MakesFolders() {
			d.errorIn(t, ref.Raw, "name", key+" is a name, and "+ref.Raw+" would make folders",
				"put it into the destination")
		}
	}
	return tmpl
}

// savedWord checks the name that save gives.
func (d *decoder) savedWord(r *rule.Rule, t rule.Text, saved []string) bool {
	if !pattern.ValidName(t.S) || Contains(memberWords(r), t.S) || Contains(saved, t.S) {
		d.add(diag.SeverityError, t.Pos, "save", fmt.Sprintf("%q cannot name a saved word here", t.S),
			"use a-z, 0-9 and _, beginning with a letter, and no word that is there already")
		return false
	}
	return true
}

func refsOf(t *fill.Template) []*fill.Ref {
	if t == nil {
		return nil
	}
	return t.Refs()
}

func everyEvent() []rule.Event {
	return []rule.Event{rule.Event(file.Added), rule.Event(file.Changed), rule.Event(file.Removed)}
}

// scriptWord finds what looks like a placeholder, and not like the shell's ${word}.
var scriptWord = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`(?:^|[^$])(\{[a-z][a-z0-9_]*\})`) })
