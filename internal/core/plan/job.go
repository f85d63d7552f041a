package plan

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"time"

	"stilltide/internal/core/file"
	"stilltide/internal/core/fill"
	"stilltide/internal/core/rule"
)

// Job is one file taken by one rule: everything that fills a placeholder.
type Job struct {
	Rule     *rule.Rule
	ID       int64
	File     string // absolute path
	Watch    string // the watched folder it was found in
	Facts    file.Facts
	Event    file.Event
	Attempt  int
	Scratch  string // folder of this attempt's own
	Hash     string // SHA-256, hexadecimal; "" if not known
	Captures map[string]string
	Now      time.Time
	Files    []string          // all files of a batch or group; nil otherwise
	List     string            // file that lists them, one a line
	List0    string            // the same, NUL-separated
	At       string            // where the file is now, if a step moved or renamed it; "" for File
	OldFile  string            // where the file was before it was renamed
	Saved    map[string]string // what earlier steps saved
	Placed   string            // where the last placing step put a file, "" if none did
	Exit     int               // exit code of the last command
	// Exists reports whether a path is there, for conditions of steps; nil for the sake
	// of foretelling: nothing is known to be there then.
	Exists func(path string) (bool, error)

	lets map[string]fill.Value
}

// Path is where the file is now.
func (j *Job) Path() string {
	if j.At != "" {
		return j.At
	}
	return j.File
}

// files are the words that a command gets for the file, or for all of them.
func (j *Job) files() []string {
	if j.Files != nil {
		return j.Files
	}
	return []string{j.Path()}
}

// Lookup returns the value of a placeholder.
func (j *Job) Lookup(word string) (fill.Value, error) {
	name := filepath.Base(j.Path())
	switch word {
	case "file":
		return fill.Value{Text: j.Path(), Path: true}, nil
	case "name":
		return fill.Text(name), nil
	case "stem":
		return fill.Text(stem(name)), nil
	case "ext":
		return fill.Text(strings.TrimPrefix(name[len(stem(name)):], ".")), nil
	case "folder":
		return fill.Value{Text: filepath.Dir(j.Path()), Path: true}, nil
	case "watch":
		return fill.Value{Text: j.Watch, Path: true}, nil
	case "rel":
		return fill.Value{Text: j.rel(), Path: true}, nil
	case "rel_folder":
		return fill.Value{Text: filepath.Dir(j.rel()), Path: true}, nil
	case "size":
		return fill.Text(strconv.FormatInt(j.Facts.Size, 10)), nil
	case "event":
		return fill.Text(string(j.Event)), nil
	case "hash":
		return fill.Text(j.Hash), nil
	case "rule":
		return fill.Text(j.Rule.Name.S), nil
	case "job":
		return fill.Text(strconv.FormatInt(j.ID, 10)), nil
	case "attempt":
		return fill.Text(strconv.Itoa(j.Attempt)), nil
	case "old_file":
		return fill.Value{Text: j.OldFile, Path: true}, nil
	case "scratch":
		return fill.Value{Text: j.Scratch, Path: true}, nil
	case "placed":
		return fill.Value{Text: j.Placed, Path: true}, nil
	case "files", "list", "list0":
		return j.gathered(word)
	case "created":
		return j.created(name)
	}
	if v, ok := j.about(word, name); ok {
		return v, nil
	}
	if v, ok := j.Captures[word]; ok {
		return fill.Text(v), nil
	}
	if v, ok := j.Saved[word]; ok {
		return fill.Text(v), nil
	}
	if v, ok, err := j.let(word); ok || err != nil {
		return v, err
	}
	return fill.Value{}, fmt.Errorf("there is no placeholder {%s}", word)
}

// gathered looks up the words for all files of a batch or group.
func (j *Job) gathered(word string) (fill.Value, error) {
	switch word {
	case "files":
		return fill.Value{List: j.files()}, nil
	case "list":
		return fill.Value{Text: j.List, Path: true}, j.Listable()
	}
	return fill.Value{Text: j.List0, Path: true}, nil
}

// created is when the file was made.
func (j *Job) created(name string) (fill.Value, error) {
	at := j.Facts.Says().Made
	if at.IsZero() {
		return fill.Value{}, fmt.Errorf("the file system does not know when %s was made, which {created} says",
			Display(name))
	}
	return fill.Value{Time: at}, nil
}

// about looks up the words for what a file is, and for times.
func (j *Job) about(word, name string) (v fill.Value, ok bool) {
	switch word {
	case "media_type":
		return fill.Text(j.Facts.Says().Kind), true
	case "category":
		return fill.Text(j.Rule.Sorts.Shown(j.Rule.Sorts.Of(j.Facts.Says().Kind, name))), true
	case "main_type":
		t, _, _ := strings.Cut(j.Facts.Says().Kind, "/")
		return fill.Text(t), true
	case "shot":
		if shot := j.Facts.Says().Shot; !shot.IsZero() {
			return fill.Value{Time: shot}, true
		}
		return fill.Value{Time: j.Facts.Mod.Time()}, true
	case "modified":
		return fill.Value{Time: j.Facts.Mod.Time()}, true
	case "now":
		return fill.Value{Time: j.Now}, true
	}
	return v, false
}

// stem is the name without its last ending. A leading dot begins no ending.
func stem(name string) string {
	if i := strings.LastIndexByte(name, '.'); i > 0 {
		return name[:i]
	}
	return name
}

func (j *Job) rel() string {
	return strings.TrimPrefix(strings.TrimPrefix(j.File, j.Watch), string(filepath.Separator))
}

// Spot is a name in a destination folder. Root is as the rule names it, and
// may be a link; what was filled lies below it in Rel, where no link is followed.
type Spot struct {
	Root string
	Rel  string // "" if nothing was filled
	Name string
}

// Folder is the folder's whole path.
func (s Spot) Folder() string {
	if s.Rel == "" {
		return s.Root
	}
	return filepath.Join(s.Root, s.Rel)
}

// Path is the whole path. Its parts are clean.
func (s Spot) Path() string {
	const sep = string(filepath.Separator)
	root := strings.TrimSuffix(s.Root, sep)
	if s.Rel == "" {
		return root + sep + s.Name
	}
	return root + sep + s.Rel + sep + s.Name
}

// Destination returns where a place puts the file.
func (j *Job) Destination(p *rule.Place) (Spot, error) {
	spot, err := Spot{Root: j.Rule.Spelled(p.Fixed)}, error(nil)
	if p.Fixed == "" {
		if spot, err = j.folder(p.Folder, p.To.Base); err != nil {
			return Spot{}, err
		}
	}
	spot.Name, err = j.name(p.Name, j.Path())
	return spot, err
}

// folder fills a destination folder.
func (j *Job) folder(t *fill.Template, base string) (Spot, error) {
	filled, err := t.FillPath(j.Lookup)
	if err != nil {
		return Spot{}, err
	}
	root, rel := t.Cut(filled)
	if own := j.begins(t); own != "" && within(filepath.Clean(filled), own) {
		root, rel = own, strings.TrimPrefix(filepath.Clean(filled), own)
	}
	if !filepath.IsAbs(filled) {
		root = filepath.Join(base, root)
	} else if root == "" {
		root = string(filepath.Separator)
	}
	if rel = filepath.Clean("/" + rel)[1:]; rel == "" {
		return Spot{Root: j.Rule.Spelled(filepath.Clean(root))}, nil
	}
	for name := range strings.SplitSeq(rel, "/") {
		if err := fits(t, name); err != nil {
			return Spot{}, err
		}
	}
	return Spot{Root: j.Rule.Spelled(filepath.Clean(root)), Rel: rel}, nil
}

// begins returns the folder that a destination begins with by a placeholder, if
// the rule and not a file's name says where that is.
func (j *Job) begins(t *fill.Template) string {
	first := t.Leading()
	if first == nil || first.Format != "" || len(first.Filters) > 0 {
		return ""
	}
	switch first.Word {
	case "scratch":
		return j.Scratch
	case "watch", "folder", "file":
		return j.Watch
	}
	return ""
}

// name fills a name; without a template it is the file's own.
func (j *Job) name(t *fill.Template, file string) (string, error) {
	if t == nil {
		return filepath.Base(file), nil
	}
	name, err := t.FillPath(j.Lookup)
	if err != nil {
		return "", err
	}
	if name = strings.ReplaceAll(name, "/", "_"); name == "" || name == "." || name == ".." {
		return "", fmt.Errorf("%q gives no name for this file: %q", t, name)
	}
	return name, fits(t, name)
}

// MaxName is how long a name may be, in bytes, on the file systems in use: NAME_MAX of limits.h(0p).
const MaxName = 255

// fits says of a name that a template gives that it is too long.
func fits(t *fill.Template, name string) error {
	if len(name) <= MaxName {
		return nil
	}
	return fmt.Errorf("%q gives a name of %d bytes for this file, and a name can have %d", t, len(name), MaxName)
}

// Command is a step ready to be run.
type Command struct {
	Args    []string // program and words
	Dir     string   // working folder
	Env     []string // NAME=VALUE, beyond the watcher's own environment
	Timeout time.Duration
	Stdin   string  // file to read from, "" for none
	Script  *Script // to be written before the run, nil for none
}

// Script is the text that a script step runs.
type Script struct {
	Path string
	Text string
}

// Command fills one step.
func (j *Job) Command(s *rule.Step, state string) (Command, error) {
	c := Command{Dir: s.Base, Timeout: s.Timeout.Duration}
	if s.WorkingIn != nil {
		dir, err := s.WorkingIn.Fill(j.Lookup)
		if err != nil {
			return c, err
		}
		if c.Dir = dir; !filepath.IsAbs(dir) {
			c.Dir = filepath.Join(s.WorkingFolder.Base, dir)
		}
	}
	if s.Stdin != "" {
		c.Stdin = j.Path()
	}
	for name, value := range s.Env {
		c.Env = append(c.Env, name+"="+value)
	}
	if s.Script.Set() {
		return j.script(s, state, c)
	}
	words, err := s.Command.Fill(j.Lookup)
	if err != nil {
		return c, err
	}
	if s.AppendsFile() {
		words = append(words, j.files()...)
	}
	if strings.Contains(words[0], "/") && !filepath.IsAbs(words[0]) {
		words[0] = filepath.Join(s.Base, words[0])
	}
	c.Args = words
	return c, nil
}

// script runs the text from a file in the state folder, named by its
// content: nothing of a file's name is ever pasted into it.
func (j *Job) script(s *rule.Step, state string, c Command) (Command, error) {
	sum := sha256.Sum256([]byte(s.Script.S))
	path := filepath.Join(state, "scripts", j.Rule.Name.S+"-"+hex.EncodeToString(sum[:4]))
	c.Script = &Script{Path: path, Text: s.Script.S}
	c.Args = []string{"/bin/sh", "-eu"}
	if first, _, _ := strings.Cut(s.Script.S, "\n"); strings.HasPrefix(first, "#!") {
		// As execve(2) does it: the interpreter, and the rest of the line as one word.
		program, rest, _ := strings.Cut(strings.TrimSpace(first[2:]), " ")
		c.Args = []string{program}
		if rest = strings.TrimSpace(rest); rest != "" {
			c.Args = append(c.Args, rest)
		}
	} else if s.Shell != nil {
		words, err := s.Shell.Fill(j.Lookup)
		if err != nil {
			return c, err
		}
		c.Args = words
	}
	if asksForList().MatchString(s.Script.S) {
		if err := j.Listable(); err != nil {
			return c, err
		}
	}
	c.Args = append(append(c.Args, path), j.files()...)
	c.Env = append(c.Env, j.words()...)
	return c, nil
}

var asksForList = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`TIDE_LIST([^0-9A-Za-z_]|$)`) })

// words returns every placeholder as an environment variable for scripts.
// maxEnv bounds a word in a command's environment, in bytes: the system takes no longer one
// (execve(2), MAX_ARG_STRLEN).
const maxEnv = 128<<10 - 64

func (j *Job) words() []string {
	var env []string
	add := func(word string) {
		v, err := j.Lookup(word)
		if err != nil {
			return
		}
		text := v.Text
		if text == "" && !v.Time.IsZero() {
			text = v.Time.Format(time.RFC3339)
		}
		if len(text) <= maxEnv && strings.IndexByte(text, 0) < 0 {
			env = append(env, "TIDE_"+strings.ToUpper(word)+"="+text)
		}
	}
	for _, w := range rule.BuiltIn() {
		if w != "job" && w != "attempt" { // the runner marks every child with those
			add(w)
		}
	}
	for w := range j.Captures {
		add(w)
	}
	for _, l := range j.Rule.Lets {
		add(l.Word)
	}
	for w := range j.Saved {
		add(w)
	}
	for w, text := range j.Rule.Fixed {
		env = append(env, "TIDE_"+strings.ToUpper(w)+"="+text)
	}
	if j.Files != nil {
		add("list") // left out where it cannot hold the names
		add("list0")
	}
	return env
}

// Listable checks that a list with one path a line can hold the job's files. The sender
// chooses their names: one with a line break would name another file.
func (j *Job) Listable() error {
	for _, path := range j.Files {
		if strings.ContainsAny(path, "\n\r") {
			return fmt.Errorf("%s has a line break in its name, so {list} cannot hold it: use {list0}, whose "+
				"names end with a zero byte (or {files})", Display(path))
		}
	}
	return nil
}

// ByHand is the line that a person can paste into a shell to run the step as
// the rule does.
func (c Command) ByHand() string {
	var parts []string
	for _, e := range c.Env {
		name, _, _ := strings.Cut(e, "=")
		if c.Script == nil || !strings.HasPrefix(name, "TIDE_") || strings.Contains(c.Script.Text, name) {
			parts = append(parts, e)
		}
	}
	words := c.Args
	if len(parts) > 0 {
		words = append(append([]string{"env"}, parts...), words...)
	}
	line := "cd " + fill.QuoteWord(c.Dir) + " && " + fill.Quote(words)
	if c.Stdin != "" {
		line += " < " + fill.QuoteWord(c.Stdin)
	}
	return line
}
