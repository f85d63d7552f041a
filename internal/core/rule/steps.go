package rule

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"

	"github.com/goccy/go-yaml/ast"

	"stilltide/internal/core/expr"
	"stilltide/internal/core/file"
	"stilltide/internal/core/fill"
	"stilltide/internal/core/pattern"
)

// Step is one step of `do`: exactly one verb with its options.
type Step struct {
	Run         Text    `key:"run" doc:"a program without a shell; split into words as a shell would, then filled"`
	Script      Text    `key:"script" doc:"the text of a script; the file is $1, the placeholders are in the environment as TIDE_FILE, TIDE_NAME, …"`
	Move        Path    `key:"move" doc:"the folder to which the file, or from:, is moved"`
	Copy        Path    `key:"copy" doc:"the folder to which the file, or from:, is copied"`
	Rename      Text    `key:"rename" doc:"the file's new name, in the folder where it is"`
	ReplaceWith Path    `key:"replace_with" doc:"the path whose content takes the place of the file's, atomically"`
	Discard     Discard `key:"discard" doc:"trash: the file, or from:, goes to the freedesktop trash; delete: it is gone"`
	Unpack      Path    `key:"unpack" doc:"the folder into which a zip, tar, tar.gz or gz is unpacked, all or nothing"`
	Tag         []Text  `key:"tag" doc:"tags that are added to the file's (user.xdg.tags)"`
	Write       Path    `key:"write" doc:"the folder in which a text file is written, named by as: and holding content:"`
	Mirror      Path    `key:"mirror" doc:"the folder that is kept in step: the same path below it as below watch; a removed file's copy goes to the trash"`
	Post        Text    `key:"post" doc:"the address to which the file is sent over HTTP"`
	Tell        Text    `key:"tell" doc:"the channel that is told; log is always there"`

	Where    Where    `key:"where" doc:"the step is done only if this CEL expression holds; saved words, exit_code (of the step before) and exists(\"PATH\") may stand in it"`
	Timeout  Duration `key:"timeout" doc:"bound on this step"`
	SameName SameName `key:"same_name" doc:"what happens if that name is there with other content: number, replace, skip or fail"`
	From     []Path   `key:"from" doc:"move, copy, discard: these paths or globs instead of the file"`
	As       Text     `key:"as" doc:"move, copy, write: the name at the destination"`
	Keep     Keep     `key:"keep" doc:"replace_with: new, or smaller: whichever of the two is smaller; new if left out"`
	MinGain  Percent  `key:"min_gain" doc:"replace_with, keep: smaller: by how much it must be smaller; 1% if left out"`
	MaxFiles int      `key:"max_files" doc:"unpack: an archive with more entries is refused; 100000 if left out"`
	MaxSize  Size     `key:"max_size" doc:"unpack: one that unpacks to more bytes is refused; 10GiB if left out"`
	MaxRatio Number   `key:"max_ratio" doc:"unpack: one that unpacks to more times its packed size, beyond the first 10 MiB, is refused; 300 if left out"`
	Content  Text     `key:"content" doc:"write: the text"`
	Text     Text     `key:"text" doc:"tell: what the notice says"`

	Interpreter   Text              `key:"interpreter" doc:"script: what runs it, if it has no #! line; /bin/sh -eu if left out"`
	WorkingFolder Path              `key:"working_folder" doc:"run, script: the working folder; the folder of the rules file if left out"`
	Env           map[string]string `key:"env" doc:"run, script: more environment variables; NAME: \"\" hands on one that the rules name for a secret, which commands do not get otherwise"`
	SuccessCodes  Codes             `key:"success_codes" doc:"run, script: the exit codes that mean success, 0 if left out; post: the HTTP statuses, 200..299 if left out; a list of numbers and ranges"`
	AddFile       *bool             `key:"add_file" doc:"run: false: do not add the file at the end of a command that names none of its words"`
	Stdin         Stdin             `key:"stdin" doc:"run, script: file: the file is its standard input"`
	Stdout        Path              `key:"stdout" doc:"run, script: the path where its standard output is put when the step succeeds"`
	Save          Text              `key:"save" doc:"run, script, post: a word for what it printed or was answered, for later steps"`

	Method     Text              `key:"method" doc:"post: the HTTP method; POST if left out"`
	Headers    map[string]Text   `key:"headers" doc:"post: HTTP headers; placeholders are filled"`
	HeadersEnv map[string]string `key:"headers_env" doc:"post: HTTP headers whose value is in an environment variable, for secrets"`
	Field      Text              `key:"field" doc:"post: the file is sent as this field of a form (multipart/form-data)"`

	Pos  Pos
	Base string // folder of the file the step is written in

	Command   *fill.Command             // run
	Shell     *fill.Command             // the interpreter's words
	Into      *fill.Template            // the folder of move, copy, unpack, write and mirror; the path of replace_with
	Name      *fill.Template            // as, or the name of rename
	Sources   []*fill.Template          // from
	Labels    []*fill.Template          // tag
	Words     *fill.Template            // content, or the text of tell
	URL       *fill.Template            // post
	Header    map[string]*fill.Template // headers
	OutputTo  *fill.Template            // stdout
	WorkingIn *fill.Template            // working_folder

	verb string
	keys map[string]Pos
}

func (s *Step) setPos(p Pos) { s.Pos = p }

func (s *Step) noteKey(key string, at Pos) {
	if s.keys == nil {
		s.keys = map[string]Pos{}
	}
	s.keys[key] = at
}

// verbs are the steps' verbs and the options that each takes, besides where
// and timeout.
var verbs = []struct {
	name    string
	options []string
}{
	{"run", []string{"working_folder", "env", "success_codes", "add_file", "stdin", "stdout", "save", "same_name"}},
	{"script", []string{"interpreter", "working_folder", "env", "success_codes", "stdin", "stdout", "save", "same_name"}},
	{"move", []string{"from", "as", "same_name"}},
	{"copy", []string{"from", "as", "same_name"}},
	{"rename", []string{"same_name"}},
	{"replace_with", []string{"keep", "min_gain"}},
	{"discard", []string{"from"}},
	{"unpack", []string{"max_files", "max_size", "max_ratio", "same_name"}},
	{"tag", nil},
	{"write", []string{"as", "content", "same_name"}},
	{"mirror", []string{"same_name"}},
	{"post", []string{"method", "headers", "headers_env", "field", "success_codes", "save"}},
	{"tell", []string{"text"}},
}

// Verb names the step.
func (s *Step) Verb() string { return s.verb }

// Runs reports whether the step starts a program.
func (s *Step) Runs() bool { return s.verb == "run" || s.verb == "script" }

// Keeps reports whether the step puts files somewhere or takes them away.
func (s *Step) Keeps() bool { return !s.Runs() && s.verb != "post" && s.verb != "tell" }

// Success reports whether an exit code means success.
func (s *Step) Success(code int) bool {
	return s.SuccessCodes.Has(code) || len(s.SuccessCodes) == 0 && code == 0
}

// Expects reports whether an HTTP status means success.
func (s *Step) Expects(status int) bool {
	return s.SuccessCodes.Has(status) || len(s.SuccessCodes) == 0 && 200 <= status && status < 300
}

// AppendsFile reports whether the file is added at the end of the command.
func (s *Step) AppendsFile() bool {
	return s.Command != nil && !s.Command.NamesFile() && s.Stdin == "" && (s.AddFile == nil || *s.AddFile)
}

// TakesInput reports whether the step moves, renames or discards the job's file.
func (s *Step) TakesInput() bool {
	switch s.verb {
	case "move", "discard":
		return len(s.From) == 0
	case "rename":
		return true
	}
	return false
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
func (s *Step) Destination() (*Path, *fill.Template) {
	switch s.verb {
	case "move":
		return &s.Move, s.Into
	case "copy":
		return &s.Copy, s.Into
	case "unpack":
		return &s.Unpack, s.Into
	case "write":
		return &s.Write, s.Into
	case "mirror":
		return &s.Mirror, s.Into
	case "run", "script":
		if s.OutputTo != nil {
			return &s.Stdout, s.OutputTo
		}
	}
	return nil, nil
}

// templates lists all that is filled for the step.
func (s *Step) templates() []*fill.Template {
	list := []*fill.Template{s.Into, s.Name, s.Words, s.URL, s.OutputTo, s.WorkingIn}
	list = append(append(list, s.Sources...), s.Labels...)
	for _, t := range s.Header {
		list = append(list, t)
	}
	for _, c := range []*fill.Command{s.Command, s.Shell} {
		if c != nil {
			list = append(list, c.Words...)
		}
	}
	return slices.DeleteFunc(list, func(t *fill.Template) bool { return t == nil })
}

func (s *Step) uses(words ...string) bool {
	for _, w := range words {
		if s.Script.Set() && strings.Contains(s.Script.S, "TIDE_"+strings.ToUpper(w)) {
			return true
		}
	}
	return slices.ContainsFunc(s.templates(), func(t *fill.Template) bool { return t.Uses(words...) })
}

// NeedsScratch reports whether the step needs the attempt's own folder.
func (s *Step) NeedsScratch() bool {
	return s.Save.Set() && s.Runs() || s.Stdout.Set() || s.uses("scratch", "list", "list0") || strings.Contains(s.Where.S, "{scratch}")
}

// SameName says what happens if a name is there already with other content.
type SameName Choice

const (
	SameNumber  SameName = "number"
	SameReplace SameName = "replace"
	SameSkip    SameName = "skip"
	SameFail    SameName = "fail"
)

func (v *SameName) fromNode(d *decoder, n ast.Node) {
	*v = SameName(choose(d, n, "same_name", "number", "replace", "skip", "fail"))
}

// Discard says what discard does.
type Discard Choice

const (
	DiscardTrash  Discard = "trash"
	DiscardDelete Discard = "delete"
)

func (v *Discard) fromNode(d *decoder, n ast.Node) {
	*v = Discard(choose(d, n, "discard", "trash", "delete"))
}

// Keep says which content replace keeps.
type Keep Choice

const (
	KeepNew     Keep = "new"
	KeepSmaller Keep = "smaller"
)

func (v *Keep) fromNode(d *decoder, n ast.Node) {
	*v = Keep(choose(d, n, "keep", "new", "smaller"))
}

// Stdin says what a command reads.
type Stdin Choice

func (v *Stdin) fromNode(d *decoder, n ast.Node) { *v = Stdin(choose(d, n, "stdin", "file")) }

// Limits bound what an archive may hold.
type Limits struct {
	MaxFiles int
	MaxSize  int64 // bytes, unpacked
	MaxRatio float64
}

// Limits are those of the step, with the defaults for what it does not say.
func (s *Step) Limits() Limits {
	return Limits{
		MaxFiles: cmp.Or(s.MaxFiles, 100_000),
		MaxSize:  int64(cmp.Or(s.MaxSize, 10<<30)),
		MaxRatio: float64(cmp.Or(s.MaxRatio, 300)),
	}
}

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

func (v *CodeRange) fromNode(d *decoder, n ast.Node) {
	s, _ := d.scalar(n)
	low, top, ranged := strings.Cut(s, "..")
	if !ranged {
		top = low
	}
	first, err := strconv.Atoi(low)
	last, topErr := strconv.Atoi(top)
	if err != nil || topErr != nil || first < 0 || first > last {
		d.errorAt(n, "codes", fmt.Sprintf("%q is no code and no range of codes", s), "write a number such as 98, or a range such as 200..299")
		return
	}
	*v = CodeRange{Low: first, Top: last}
}

// Percent is a part of something: `1%`, `0.5%`.
type Percent float64

func (v *Percent) fromNode(d *decoder, n ast.Node) {
	s, _ := d.scalar(n)
	number, ok := strings.CutSuffix(s, "%")
	part, err := strconv.ParseFloat(strings.TrimSpace(number), 64)
	if !ok || err != nil || !(part >= 0 && part < 100) {
		d.errorAt(n, "percent", fmt.Sprintf("%q is not a percentage", s), "write a number from 0 to less than 100 and a percent sign, such as 1%")
		return
	}
	*v = Percent(part)
}

// defaultGain is by how much new content must be smaller (keep: smaller), in percent.
const defaultGain = 1

// Gains reports whether new content takes the place of the old, by their sizes in bytes.
func (s *Step) Gains(old, next int64) bool {
	if s.Keep != KeepSmaller {
		return true
	}
	return next < old && float64(old-next)*100 >= s.gain()*float64(old)
}

func (s *Step) gain() float64 {
	if _, written := s.keys["min_gain"]; written {
		return float64(s.MinGain)
	}
	return defaultGain
}

// GainText says by how much it must be smaller, "" if any will do.
func (s *Step) GainText() string {
	if s.gain() == 0 {
		return ""
	}
	return strconv.FormatFloat(s.gain(), 'f', -1, 64) + "% "
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
	if len(r.Do) == 0 && r.Run.Set() {
		r.Steps = []Step{{Run: r.Run, Pos: r.Run.Pos, keys: map[string]Pos{"run": r.Run.Pos}}}
	} else if len(r.Do) == 0 && r.Script.Set() {
		r.Steps = []Step{{Script: r.Script, Pos: r.Script.Pos, keys: map[string]Pos{"script": r.Script.Pos}}}
	}
	env, saved := r.env, []string(nil)
	for i := range r.Steps {
		s := &r.Steps[i]
		s.Base = d.base
		if d.verb(s) {
			d.step(r, s, env, saved)
		}
		if s.Save.Set() && d.savedWord(r, s.Save, saved) {
			saved = append(saved, s.Save.S)
			env = env.WithText(s.Save.S)
		}
	}
	r.Saved = saved
	d.stepsTogether(r)
}

// verb finds the step's one verb and checks that its options belong to it.
func (d *decoder) verb(s *Step) bool {
	var found, all []string
	var options []string
	for _, v := range verbs {
		all = append(all, v.name)
		if _, ok := s.keys[v.name]; ok {
			found, options = append(found, v.name), v.options
		}
	}
	switch {
	case len(found) == 0:
		d.add(SeverityError, s.Pos, "verbs", "this step has no verb", "begin it with one of "+strings.Join(all, ", "))
		return false
	case len(found) > 1:
		d.add(SeverityError, s.Pos, "verbs", fmt.Sprintf("a step has one verb, and this one has %s", strings.Join(found, " and ")), "make two steps of it")
		return false
	}
	s.verb = found[0]
	for key, at := range s.keys {
		if key != s.verb && key != "where" && key != "timeout" && !contains(options, key) {
			d.add(SeverityError, at, "option", fmt.Sprintf("%s does not go with %s", key, s.verb), "it goes with "+strings.Join(verbsWith(key), ", "))
		}
	}
	return true
}

func verbsWith(option string) (names []string) {
	for _, v := range verbs {
		if contains(v.options, option) {
			names = append(names, v.name)
		}
	}
	return names
}

// savedWord checks the name that save gives.
func (d *decoder) savedWord(r *Rule, t Text, saved []string) bool {
	if !pattern.ValidName(t.S) || contains(memberWords(r), t.S) || contains(saved, t.S) {
		d.add(SeverityError, t.Pos, "save", fmt.Sprintf("%q cannot name a saved word here", t.S), "use a-z, 0-9 and _, beginning with a letter, and no word that is there already")
		return false
	}
	return true
}

// step compiles one step. saved are the words that earlier steps save.
func (d *decoder) step(r *Rule, s *Step, env expr.Env, saved []string) {
	words := append(stepWords(r), saved...)
	each := append(memberWords(r), saved...) // what places is done for each file of a batch or group
	if s.Where.Set() {
		s.Where.Program = d.expression(env.ForSteps(), s.Where.Text, "bool")
	}
	s.Sources = nil
	for _, from := range s.From {
		s.Sources = append(s.Sources, d.template(from.Text, each))
	}
	switch s.verb {
	case "run", "script":
		d.program(s, words)
	case "rename":
		s.Name = d.nameTemplate(s.Rename, each, "rename:")
	case "discard", "tag":
	case "replace_with":
		s.Into = d.template(s.ReplaceWith.Text, each)
		if at, written := s.keys["min_gain"]; written && s.Keep != KeepSmaller {
			d.add(SeverityError, at, "option", "min_gain goes with keep: smaller", "add keep: smaller, or remove it")
		}
	case "post":
		d.post(s, each)
	case "tell":
		s.Words = d.template(s.Text, words)
		if !s.Text.Set() {
			d.add(SeverityError, s.Pos, "missing", "a notice needs text:", "")
		}
		d.knownChannel(s.Tell, s.Pos, "tell")
	default: // a destination
		to := map[string]Path{"move": s.Move, "copy": s.Copy, "unpack": s.Unpack, "write": s.Write, "mirror": s.Mirror}[s.verb]
		s.Into = d.template(to.Text, each)
		if s.As.Set() {
			s.Name = d.nameTemplate(s.As, each, "as:")
		}
	}
	if s.verb == "write" {
		s.Words = d.template(s.Content, words)
		if !s.As.Set() || !s.Content.Set() {
			d.add(SeverityError, s.Pos, "missing", "write needs as: for the file's name and content: for its text", "")
		}
	}
	s.Labels = nil
	for _, t := range s.Tag {
		if strings.ContainsAny(t.S, ",\n") {
			d.add(SeverityError, t.Pos, "tag", "a tag holds no comma and no line break", "make a list of them")
		}
		s.Labels = append(s.Labels, d.template(t, each))
	}
}

// program compiles what run and script fill.
func (d *decoder) program(s *Step, words []string) {
	if s.verb == "run" {
		s.Command = d.command(s.Run, words)
	} else if strings.TrimSpace(s.Script.S) == "" {
		d.add(SeverityError, s.Script.Pos, "empty", "the script is empty", "")
	} else {
		d.unfilled(s.Script, words)
	}
	if s.Interpreter.Set() {
		s.Shell = d.command(s.Interpreter, words)
	}
	if s.WorkingFolder.Set() {
		s.WorkingIn = d.template(s.WorkingFolder.Text, words)
	}
	if s.Stdout.Set() {
		s.OutputTo = d.template(s.Stdout.Text, words)
		if s.Save.Set() {
			d.add(SeverityError, s.Save.Pos, "option", "save and stdout do not go together", "keep one of them")
		}
	}
	if s.Stdin != "" && contains(words, "files") {
		d.add(SeverityError, s.keys["stdin"], "option", "stdin: file is for single files, and this rule gathers many", "use {list}")
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
		d.add(SeverityWarning, d.find(t.Pos, m[1]), "unfilled", "nothing is filled into the text of a script, so "+m[1]+" stays as it is", hint)
		return
	}
}

func (d *decoder) post(s *Step, words []string) {
	s.URL = d.template(s.Post, words)
	if at := d.put(Path{Text: s.Post}).S; !strings.HasPrefix(at, "http://") && !strings.HasPrefix(at, "https://") {
		d.add(SeverityError, s.Post.Pos, "address", fmt.Sprintf("%q is not a web address", s.Post.S), "begin it with http:// or https://")
	}
	s.Header = map[string]*fill.Template{}
	for name, t := range s.Headers {
		s.Header[name] = d.template(t, words)
	}
	for _, c := range s.SuccessCodes {
		if c.Low < 100 || c.Top > 599 {
			d.add(SeverityError, s.keys["success_codes"], "range", fmt.Sprintf("%s is not an HTTP status", c), "they go from 100 to 599")
		}
	}
}

// nameTemplate compiles a name; a name holds no slash.
func (d *decoder) nameTemplate(t Text, words []string, key string) *fill.Template {
	if strings.Contains(t.S, "/") {
		d.errorIn(t, "/", "name", key+" is a name, and a name holds no /", "put folders into the destination")
	}
	return d.template(t, words)
}

// stepsTogether checks what the steps mean beside one another and the rule.
func (d *decoder) stepsTogether(r *Rule) {
	for i := range r.Steps {
		s := &r.Steps[i]
		at := s.keys[s.verb]
		bad := func(code, message, hint string) { d.add(SeverityError, at, code, message, hint) }
		if r.Share && s.TakesInput() {
			bad("share", fmt.Sprintf("a rule that shares its files with later ones cannot take them away: it has %s", s.verb), "remove one of the two")
		}
		if s.verb == "discard" && len(s.From) == 0 && r.Processed != nil {
			bad("discard", "a file that was discarded cannot go to the processed folder", "remove processed: or discard:")
		}
		if r.Folded() && (s.verb == "replace_with" || s.verb == "post" || s.verb == "unpack" || s.verb == "mirror") {
			bad("folders", s.verb+" is for files, and this rule takes folders", "write unit: file, or use a script")
		}
		if r.Gather != nil && (s.verb == "replace_with" || s.verb == "mirror") {
			bad("gather", s.verb+" is for single files, and this rule gathers many", "remove batch: or group:, or use a script")
		}
		if s.verb == "mirror" && !r.eventsWritten {
			r.Events = []Event{Event(file.Added), Event(file.Changed), Event(file.Removed)}
		}
	}
}
