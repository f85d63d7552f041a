package rule

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"

	"github.com/goccy/go-yaml/ast"

	"stilltide/internal/core/file"
	"stilltide/internal/core/fill"
	"stilltide/internal/core/pattern"
)

// Step is one step of `do`: exactly one verb with its options. Here are the keys that
// several verbs share; those of one alone are in its own type.
type Step struct {
	Run    Text `key:"run" doc:"a program without a shell; split into words as a shell would, then filled"`
	Script Text `key:"script" doc:"the text of a script; the file is $1, the placeholders are in the environment as TIDE_FILE, TIDE_NAME, …"`

	Where    Where    `key:"where" doc:"the step is done only if this CEL expression holds; saved words, exit_code (of the step before) and exists(\"PATH\") may stand in it"`
	Timeout  Duration `key:"timeout" doc:"bound on this step"`
	SameName SameName `key:"same_name" default:"number" doc:"what happens if that name is there with other content: number, replace, skip or fail"`
	From     []Path   `key:"from" doc:"these paths or globs instead of the file"`
	As       Text     `key:"as" fits:"^[^/]*$" doc:"the name at the destination"`

	Interpreter   Text              `key:"interpreter" doc:"what runs it, if it has no #! line; /bin/sh -eu if left out"`
	WorkingFolder Path              `key:"working_folder" doc:"the working folder; the folder of the rules file if left out"`
	Env           map[string]string `key:"env" doc:"more environment variables; NAME: \"\" hands on one that the rules name for a secret, which commands do not get otherwise"`
	SuccessCodes  Codes             `key:"success_codes" doc:"the exit codes that mean success, of post the HTTP statuses: a list of numbers and ranges; 0, of post 200..299 if left out"`
	AddFile       *bool             `key:"add_file" default:"true" doc:"false: do not add the file at the end of a command that names none of its words"`
	Stdin         Stdin             `key:"stdin" doc:"file: the file is its standard input"`
	Stdout        Path              `key:"stdout" doc:"the path where its standard output is put when the step succeeds"`
	Save          Save              `key:"save" doc:"a word for what it printed or was answered, up to 1 MiB, for later steps; or words for fields of a JSON answer: {id: data.id}"`

	Act  Act // the verb, with the values of its own keys
	Pos  Pos
	Base string // folder of the file the step is written in

	To        *Path            // the destination; nil if it puts nothing anywhere else
	Folder    *fill.Template   // the folder of that; for stdout the file
	Name      *fill.Template   // the name there, or the new name; nil for that of the file
	Command   *fill.Command    // run
	Shell     *fill.Command    // the interpreter's words
	Sources   []*fill.Template // from
	WorkingIn *fill.Template   // working_folder

	verb   *Verb
	filled []*fill.Template // all that is filled for the step
	keys   map[string]Pos
}

func (s *Step) SetPos(p Pos) { s.Pos = p }

func (s *Step) NoteKey(key string, at Pos) {
	if s.keys == nil {
		s.keys = map[string]Pos{}
	}
	s.keys[key] = at
}

// Written reports whether a key of the step is written in the rules file.
func (s *Step) Written(key string) bool { _, ok := s.keys[key]; return ok }

// Verb names the step.
func (s *Step) Verb() string { return s.verb.Name }

// Kind returns what is known of the step's verb.
func (s *Step) Kind() *Verb { return s.verb }

// Runs reports whether the step starts a program.
func (s *Step) Runs() bool { return s.verb.Program }

// Success reports whether an exit code means success.
func (s *Step) Success(code int) bool {
	return s.SuccessCodes.Has(code) || len(s.SuccessCodes) == 0 && code == 0
}

// AppendsFile reports whether the file is added at the end of the command.
func (s *Step) AppendsFile() bool {
	return s.Command != nil && !s.Command.NamesFile() && s.Stdin == "" && (s.AddFile == nil || *s.AddFile)
}

// TakesInput reports whether the step moves, renames or discards the job's file.
func (s *Step) TakesInput() bool {
	return s.verb.Takes == TakesInput || s.verb.Takes == TakesUnlessFrom && len(s.From) == 0
}

// Uncertain reports whether the step's condition depends on what only a run can know:
// what steps before it save, make, or end with.
func (s *Step) Uncertain(saved []string) bool {
	for _, w := range append([]string{"exit_code", "exists"}, saved...) {
		if mentions(s.Where.S, w) {
			return true
		}
	}
	return false
}

// mentions reports whether a word stands in an expression by itself.
func mentions(text, word string) bool {
	letter := func(c byte) bool {
		return c == '_' || c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z'
	}
	for at := 0; ; {
		i := strings.Index(text[at:], word)
		if i < 0 {
			return false
		}
		from, to := at+i, at+i+len(word)
		if (from == 0 || !letter(text[from-1])) && (to == len(text) || !letter(text[to])) {
			return true
		}
		at = to
	}
}

// Depends reports whether what the step fills holds one of the words.
func (s *Step) Depends(words []string) bool { return len(words) > 0 && s.uses(words...) }

// Destination returns the path under which the step puts files: a folder, or
// for stdout a file; nil if it puts nothing anywhere else.
func (s *Step) Destination() (*Path, *fill.Template) { return s.To, s.Folder }

func (s *Step) uses(words ...string) bool {
	for _, w := range words {
		if s.Script.Set() && strings.Contains(s.Script.S, "TIDE_"+strings.ToUpper(w)) {
			return true
		}
	}
	return slices.ContainsFunc(s.filled, func(t *fill.Template) bool { return t.Uses(words...) })
}

// NeedsScratch reports whether the step needs the attempt's own folder.
func (s *Step) NeedsScratch() bool {
	return s.Save.Set() && s.Runs() || s.Stdout.Set() || s.uses("scratch", "list", "list0") ||
		strings.Contains(s.Where.S, "{scratch}")
}

// SameName says what happens if a name is there already with other content.
type SameName Choice

const (
	SameNumber  SameName = "number"
	SameReplace SameName = "replace"
	SameSkip    SameName = "skip"
	SameFail    SameName = "fail"
)

func readSameName(d *decoder, n ast.Node, v *SameName) {
	*v = SameName(choose(d, n, "same_name", "number", "replace", "skip", "fail"))
}

// Stdin says what a command reads.
type Stdin Choice

func readStdin(d *decoder, n ast.Node, v *Stdin) { *v = Stdin(choose(d, n, "stdin", "file")) }

// Codes are exit codes or HTTP statuses: numbers and ranges.
type Codes []CodeRange

// CodeRange is a range of codes, its ends included: `200..299`; one code is `98`.
type CodeRange struct{ Low, Top int }

func (c CodeRange) String() string {
	if c.Low == c.Top {
		return strconv.Itoa(c.Low)
	}
	return fmt.Sprintf("%d..%d", c.Low, c.Top)
}

// Has reports whether a code is among them.
func (v Codes) Has(code int) bool {
	return slices.ContainsFunc(v, func(c CodeRange) bool { return c.Low <= code && code <= c.Top })
}

func readCodeRange(d *decoder, n ast.Node, v *CodeRange) {
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
	*v = CodeRange{Low: first, Top: last}
}

// Percent is a part of something: `1%`, `0.5%`.
type Percent float64

func readPercent(d *decoder, n ast.Node, v *Percent) {
	s, _ := d.scalar(n)
	number, ok := strings.CutSuffix(s, "%")
	part, err := strconv.ParseFloat(strings.TrimSpace(number), 64)
	if !ok || err != nil || !(part >= 0 && part < 100) {
		d.errorAt(n, "percent", fmt.Sprintf("%q is not a percentage", s),
			"write a number from 0 to less than 100 and a percent sign, such as 1%")
		return
	}
	*v = Percent(part)
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
		d.errorAt(n, "verbs", "a rule has one of do, run and script, and this one has several",
			"put the steps in a list under do:")
	}
	r.Steps = append([]Step(nil), r.Do...)
	if len(r.Do) == 0 && r.Run.Set() {
		r.Steps = []Step{{Run: r.Run, Pos: r.Run.Pos, keys: map[string]Pos{"run": r.Run.Pos}}}
		r.Steps[0].become("run")
	} else if len(r.Do) == 0 && r.Script.Set() {
		r.Steps = []Step{{Script: r.Script, Pos: r.Script.Pos, keys: map[string]Pos{"script": r.Script.Pos}}}
		r.Steps[0].become("script")
	}
	env, saved := r.env, []string(nil)
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
		if s := &r.Steps[i]; s.verb != nil {
			d.beside(r, s)
		}
	}
}

// become makes a step of a verb of what the rule itself has.
func (s *Step) become(verb string) {
	s.verb = verbNamed(verb)
	s.Act = s.verb.New()
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
	if s.Stdin != "" && contains(c.Words, "files") {
		c.ErrorAt("stdin", "option", "stdin: file is for single files, and this rule gathers many", "use {list}")
	}
}

// scriptWord finds what looks like a placeholder, and not like the shell's ${word}.
var scriptWord = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`(?:^|[^$])(\{[a-z][a-z0-9_]*\})`) })

// unfilled warns of placeholders in a script: its text is not filled.
func (d *decoder) unfilled(t Text, words []string) {
	for _, m := range scriptWord().FindAllStringSubmatch(t.S, -1) {
		word := strings.Trim(m[1], "{}")
		if !contains(words, word) && d.words[word] == "" {
			continue
		}
		hint := "write \"$TIDE_" + strings.ToUpper(word) + "\": every placeholder is in the environment"
		if word == "file" {
			hint = "write \"$1\": it is the file"
		}
		d.add(SeverityWarning, d.find(t.Pos, m[1]), "unfilled", "nothing is filled into the text of a script, so "+
			m[1]+" stays as it is", hint)
		return
	}
}

// nameTemplate compiles a name; a name holds no slash.
func (d *decoder) nameTemplate(t Text, words []string, key string) *fill.Template {
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

func refsOf(t *fill.Template) []*fill.Ref {
	if t == nil {
		return nil
	}
	return t.Refs()
}

func everyEvent() []Event {
	return []Event{Event(file.Added), Event(file.Changed), Event(file.Removed)}
}

// savedWord checks the name that save gives.
func (d *decoder) savedWord(r *Rule, t Text, saved []string) bool {
	if !pattern.ValidName(t.S) || contains(memberWords(r), t.S) || contains(saved, t.S) {
		d.add(SeverityError, t.Pos, "save", fmt.Sprintf("%q cannot name a saved word here", t.S),
			"use a-z, 0-9 and _, beginning with a letter, and no word that is there already")
		return false
	}
	return true
}
