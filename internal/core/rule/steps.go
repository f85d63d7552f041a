package rule

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"stilltide/internal/core/fill"
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

	kind   *Verb
	Filled []*fill.Template // all that is filled for the step
	Keys   map[string]Pos
}

func (s *Step) SetPos(p Pos) { s.Pos = p }

func (s *Step) NoteKey(key string, at Pos) {
	if s.Keys == nil {
		s.Keys = map[string]Pos{}
	}
	s.Keys[key] = at
}

// Written reports whether a key of the step is written in the rules file.
func (s *Step) Written(key string) bool { _, ok := s.Keys[key]; return ok }

// Verb names the step.
func (s *Step) Verb() string { return s.kind.Name }

// Kind returns what is known of the step's verb.
func (s *Step) Kind() *Verb { return s.kind }

// Runs reports whether the step starts a program.
func (s *Step) Runs() bool { return s.kind.Program }

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
	return s.kind.Takes == TakesInput || s.kind.Takes == TakesUnlessFrom && len(s.From) == 0
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
	return slices.ContainsFunc(s.Filled, func(t *fill.Template) bool { return t.Uses(words...) })
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

// Stdin says what a command reads.
type Stdin Choice

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

// Percent is a part of something: `1%`, `0.5%`.
type Percent float64

// Be gives the step its verb.
func (s *Step) Be(v *Verb) { s.kind = v }

// Become makes a step of a verb of what the rule itself has.
func (s *Step) Become(verb string) {
	s.kind = verbNamed(verb)
	s.Act = s.kind.New()
}
