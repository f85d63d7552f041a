package foresee

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"stilltide/internal/advice"
	"stilltide/internal/cli/console"
	"stilltide/internal/core/diag"
	"stilltide/internal/core/fill"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/draft"
	"stilltide/internal/guide"
	"stilltide/internal/ink"
	"stilltide/internal/look"
)

func (a *app) addRuleCommand() *cobra.Command {
	var r draft.Rule
	var before string
	c := &cobra.Command{
		Use: "add", Short: "Write a new rule: guided in a terminal, or by options",
		Args: cobra.NoArgs,
		Long: `Guides to a new rule in a form: the folder, which files, what is done with them, where they go
afterwards; what the rule would do with the files that are there is beside it all the time.
Nothing is written before Ctrl-S, and nothing else in the rules file changes.

With --watch there is no form: the options are the rule.`,
		RunE: func(*cobra.Command, []string) error { return a.addRule(r, before) },
	}
	c.Flags().StringVar(&r.Name, "name", "", "the rule's `NAME`; after its folder if left out")
	c.Flags().StringVar(&r.Watch, "watch", "", "the `FOLDER` to watch")
	c.Flags().StringArrayVar(&r.Match, "match", nil, "only names that fit this `PATTERN`; may be given several times")
	c.Flags().StringVar(&r.Run, "run", "", "the `COMMAND` to run on each file, such as \"sort {file}\"")
	c.Flags().StringArrayVar(&r.Steps, "do", nil,
		"a `STEP` as under do:, such as \"copy: backup\"; may be given several times")
	c.Flags().StringVar(&r.Processed, "processed", "", "the `FOLDER` where the file goes after success")
	c.Flags().StringVar(&r.Failed, "failed", "", "the `FOLDER` where the file goes when all attempts failed")
	c.Flags().StringVar(&before, "before", "", "put it before this `RULE`, not last")
	return c
}

// newRule writes a rule into a rules file.
type newRule struct {
	a      *app
	path   string // of the rules file
	text   string // of that, "" if it is not there
	exists bool
	f      *rule.File // as it is, nil if it is not there
	before string     // the rule that it stands before, "" for none
}

func (a *app) addRule(r draft.Rule, before string) error {
	n, err := a.rulesToChange(before)
	if err != nil {
		return err
	}
	if r.Watch == "" {
		if !a.CanAsk() {
			return console.Usage("the form needs a terminal; say the rule by options: " +
				"stilltide rules add --watch FOLDER …")
		}
		ctx, stop := a.UntilSignal()
		defer stop()
		ok := false
		if r, ok, err = guide.Run(ctx, n, r, n.nameFor, a.In, a.Out); err != nil {
			return err
		}
		if !ok {
			fmt.Fprintln(a.Err, "Nothing was written.")
			return nil
		}
	}
	if r.Name == "" {
		r.Name = n.nameFor(r.Watch)
	}
	r.Watch = n.folder(r.Watch)
	return n.write(r)
}

// rulesToChange reads the rules file that is to be changed. Where there is none, one is made
// in the current folder.
func (a *app) rulesToChange(before string) (*newRule, error) {
	path, err := a.FindRules()
	if err != nil {
		path = console.Absolute(rule.FileName)
	}
	n := &newRule{a: a, path: path, before: before}
	text, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		if before != "" {
			return nil, console.Usage("there is no %s yet, so there is no rule %s", a.Shown(path), before)
		}
		return n, nil
	}
	if err != nil {
		return nil, console.Usage("the rules file %s cannot be read: %v", a.Shown(path), errors.Unwrap(err))
	}
	f, diags, _ := console.ParseRules(path, text)
	if diags.Failed() {
		a.PrintDiagnostics(a.Err, a.StyleErr, diags)
		return nil, console.Usage("%s has errors; correct them first (stilltide rules edit)", a.Shown(path))
	}
	n.f, n.text, n.exists = f, string(text), true
	if _, err := n.beforeLine(); err != nil {
		return nil, err
	}
	return n, nil
}

// beforeLine is the line of the rule that the new one stands before, 0 for none.
func (n *newRule) beforeLine() (int, error) {
	if n.before == "" {
		return 0, nil
	}
	for _, r := range n.f.All() {
		switch {
		case r.Name.S != n.before:
		case r.Pos.File != n.f.Path:
			return 0, console.Usage("the rule %s stands in %s; add it there, with --config, or without --before",
				n.before,
				n.a.Shown(r.Pos.File))
		default:
			return r.Pos.Line, nil
		}
	}
	return 0, console.Usage("there is no rule named %s in %s%s", n.before, n.a.Shown(n.path),
		console.DidYouMean(n.before, console.RuleNames(n.f)))
}

// with is the text of the rules file with the new rule, and what it says then.
func (n *newRule) with(r draft.Rule) (string, *rule.File, diag.List, error) {
	line, err := n.beforeLine()
	if err != nil {
		return "", nil, nil, err
	}
	text, err := draft.Insert(n.text, r, line)
	if errors.Is(err, draft.ErrPlace) {
		return "", nil, nil, console.Usage("the rule cannot be put into %s: %v. Add this to it by hand:\n%s",
			n.a.Shown(n.path), err, strings.TrimRight(r.Entry(2), "\n"))
	}
	if err != nil {
		return "", nil, nil, err
	}
	f, diags, _ := console.ParseRules(n.path, []byte(text))
	return text, f, diags, nil
}

// write puts the rule into the file, if it can be used.
func (n *newRule) write(r draft.Rule) error {
	text, f, diags, err := n.with(r)
	if err != nil {
		return err
	}
	if diags.Failed() {
		for _, d := range diags {
			if d.Severity == diag.SeverityError {
				return console.Usage("the rule was not written: %s%s", d.Message, hintOf(d))
			}
		}
	}
	if now, err := os.ReadFile(n.path); n.exists && (err != nil || string(now) != n.text) {
		return console.Usage("%s was changed meanwhile, so nothing was written; say it again", n.a.Shown(n.path))
	}
	if err := replaceFile(n.path, text); err != nil {
		return console.Usage("%s cannot be written: %v", n.a.Shown(n.path), err)
	}
	at := 0
	for _, one := range f.All() {
		if one.Name.S == r.Name {
			at = one.Pos.Line
		}
	}
	fmt.Fprint(n.a.Out, r.Entry(2))
	fmt.Fprintf(n.a.Err, "Wrote it into %s, line %d.\n", n.a.Shown(n.path), at)
	if folder := absoluteFrom(f.Base, r.Watch); notThere(folder) {
		fmt.Fprintf(n.a.Err, "The folder %s is not there yet; the rule waits for it.\n",
			console.Display(console.Short(f.Base, folder)))
	}
	fmt.Fprintf(n.a.Err, "What it would do: stilltide preview --rule %s\nTo try it on the next file: "+
		"stilltide watch --next\n", fill.QuoteWord(r.Name))
	return nil
}

func hintOf(d diag.Diagnostic) string {
	if d.Hint == "" {
		return ""
	}
	return "; " + d.Hint
}

// replaceFile gives a file new text in one instant. A link stays one.
func replaceFile(path, text string) error {
	if real, err := filepath.EvalSymlinks(path); err == nil {
		path = real
	}
	mode := os.FileMode(0o644)
	if info, err := os.Stat(path); err == nil {
		mode = info.Mode().Perm()
	}
	f, err := os.CreateTemp(filepath.Dir(path), ".stilltide-rules-*")
	if err != nil {
		return err
	}
	_, err = f.WriteString(text)
	if err = errors.Join(err, f.Chmod(mode), f.Sync(), f.Close()); err == nil {
		err = os.Rename(f.Name(), path)
	}
	if err != nil {
		os.Remove(f.Name())
	}
	return err
}

// folder is a folder as the rules have it: below them it is relative to them.
func (n *newRule) folder(text string) string {
	if text == "" || strings.HasPrefix(text, "~") || strings.ContainsAny(text, "{*") {
		return text
	}
	return console.Short(filepath.Dir(n.path), console.Absolute(text))
}

// absoluteFrom is a folder of the rules as a whole path.
func absoluteFrom(base, folder string) string {
	if folder = console.AtHome(folder); filepath.IsAbs(folder) {
		return folder
	}
	return filepath.Join(base, folder)
}

func notThere(folder string) bool { _, err := os.Stat(folder); return err != nil }

// nameFor proposes a name for a rule of a folder.
func (n *newRule) nameFor(folder string) string {
	return draft.NameFor(filepath.Base(console.Absolute(folder)), func(name string) bool {
		return n.f != nil && slices.Contains(console.RuleNames(n.f), name)
	})
}

// seeFor is how long a look at what a rule would do may take.
const seeFor = time.Second

// maxSeen bounds the files of which the form says what would be done.
const maxSeen = 40

// See is part of guide.Source.
func (n *newRule) See(r draft.Rule) guide.Sight {
	if r.Watch == "" {
		return guide.Sight{Wrong: "Which folder is to be watched?"}
	}
	if r.Name == "" {
		r.Name = n.nameFor(r.Watch)
	}
	r.Watch = n.folder(r.Watch)
	_, f, diags, err := n.with(r)
	if err != nil {
		return guide.Sight{Wrong: err.Error()}
	}
	for _, d := range diags {
		if d.Severity == diag.SeverityError {
			return guide.Sight{Wrong: d.Message + hintOf(d)}
		}
	}
	folder := absoluteFrom(f.Base, r.Watch)
	if notThere(folder) {
		return guide.Sight{Count: "That folder is not there yet; the rule would wait for it."}
	}
	return n.foresee(f, r.Name, folder)
}

// foresee says what a rule would do with what lies in its folder.
func (n *newRule) foresee(f *rule.File, name, folder string) guide.Sight {
	taken, others, late := 0, 0, false
	var s guide.Sight
	end := time.Now().Add(seeFor)
	enough := func() bool { late = late || time.Now().After(end); return late }
	if err := advice.PreviewSome(look.NewSet(f), folder, time.Now(), enough, func(one advice.Foreseen) {
		switch {
		case one.Rule == nil && !one.Unmatched:
		case one.Rule != nil && one.Rule.Name.S == name:
			if taken++; taken <= maxSeen {
				s.Lines = append(s.Lines, n.sentences(f, folder, one)...)
			}
		default:
			others++
		}
	}); err != nil {
		return guide.Sight{Wrong: err.Error()}
	}
	more := ""
	if late {
		more = " so far"
	}
	s.Count = fmt.Sprintf("It would take %s%s", plan.Plural(taken, "file"), more)
	if others > 0 {
		s.Count += fmt.Sprintf(", and leave %s to others", plan.Number(others))
	}
	return s
}

// sentences say what would be done with a file: where it goes, and a line for each step.
func (n *newRule) sentences(f *rule.File, folder string, one advice.Foreseen) []string {
	text := console.Display(console.Short(folder, one.File))
	switch {
	case one.Fails != "":
		text += " fails: " + one.Fails
	case one.FileAfter != "":
		text += " → " + console.Display(console.Short(f.Base, one.FileAfter))
	default:
		text += " stays"
	}
	lines := []string{ink.Clean(text)}
	for _, step := range one.Steps {
		lines = append(lines, "    "+ink.Clean(strings.ReplaceAll(step, f.Base+"/", "")))
	}
	return lines
}

// maxListed bounds the names that are read of a folder for the form.
const maxListed = 5000

// Folders is part of guide.Source.
func (n *newRule) Folders(begun string) (list []string) {
	dir, part := filepath.Split(begun)
	entries, err := os.ReadDir(console.Absolute(filepath.Clean("./" + dir)))
	if filepath.IsAbs(begun) || strings.HasPrefix(begun, "~") {
		entries, err = os.ReadDir(console.Absolute(filepath.Clean(dir)))
	}
	if err != nil {
		return nil
	}
	for _, e := range entries {
		if e.IsDir() && strings.HasPrefix(e.Name(), part) && !strings.HasPrefix(e.Name(), ".") {
			list = append(list, dir+e.Name())
		}
	}
	return list
}

// Patterns is part of guide.Source.
func (n *newRule) Patterns(folder string) []string { return draft.Propose(n.names(folder)) }

// names are those of the files in a folder, or of the first of them.
func (n *newRule) names(folder string) (names []string) {
	d, err := os.Open(console.Absolute(folder))
	if err != nil || folder == "" {
		return nil
	}
	defer d.Close()
	entries, _ := d.ReadDir(maxListed) // what can be read is enough
	for _, e := range entries {
		if !e.IsDir() {
			names = append(names, e.Name())
		}
	}
	return names
}

// Lies is part of guide.Source.
func (n *newRule) Lies(folder string) string {
	if folder == "" {
		return "the folder to watch; → proposes"
	}
	names := n.names(folder)
	if len(names) == 0 {
		if notThere(console.Absolute(folder)) {
			return "not there yet"
		}
		return "no file lies there now"
	}
	slices.Sort(names)
	shown := make([]string, 0, 3)
	for _, name := range names[:min(len(names), 3)] {
		shown = append(shown, console.Display(name))
	}
	text := plan.Plural(len(names), "file") + " there: " + strings.Join(shown, ", ")
	if len(names) > 3 {
		text += ", …"
	}
	return text
}
