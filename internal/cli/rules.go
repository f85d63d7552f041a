package cli

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"stilltide/internal/advice"
	"stilltide/internal/control"
	"stilltide/internal/core/rule"
	"stilltide/internal/engine"
	"stilltide/internal/ink"
)

// findRules returns the rules file's absolute path.
func (a *app) findRules() (string, error) {
	if a.rules != "" {
		return filepath.Abs(a.rules)
	}
	dir, err := os.Getwd()
	if err != nil {
		return "", err
	}
	start := dir
	for {
		path := filepath.Join(dir, rule.FileName)
		if _, err := os.Stat(path); err == nil {
			return path, nil
		}
		up := filepath.Dir(dir)
		if up == dir {
			break
		}
		dir = up
	}
	if config, err := os.UserConfigDir(); err == nil {
		path := filepath.Join(config, "stilltide", rule.FileName)
		if _, err := os.Stat(path); err == nil {
			return path, nil
		}
	}
	return "", usage("there is no %s in %s or above it; stilltide init writes one, --config FILE names another",
		rule.FileName, start)
}

// loadRules reads the rules file. Errors in it are printed, and the error
// ends the program with the status for wrong rules.
func (a *app) loadRules() (*rule.File, error) {
	f, diags, err := a.readRules()
	if err != nil {
		return nil, err
	}
	if diags.Failed() {
		a.printDiagnostics(a.err, a.styleErr, diags)
		n, _ := diags.Count()
		return nil, usage("%s in %s; nothing was started", plural(n, "error"), a.shown(f.Path))
	}
	return f, nil
}

func (a *app) readRules() (*rule.File, rule.Diagnostics, error) {
	path, err := a.findRules()
	if err != nil {
		return nil, nil, err
	}
	src, err := os.ReadFile(path)
	if err != nil {
		var pe *os.PathError
		if errors.Is(err, os.ErrNotExist) {
			return nil, nil, usage("the rules file %s is not there; stilltide init writes one to begin with", path)
		}
		if errors.As(err, &pe) {
			err = pe.Err
		}
		return nil, nil, usage("the rules file %s cannot be read: %v", path, err)
	}
	f, diags, texts := parseRules(path, src)
	a.read = texts
	return f, diags, nil
}

// parseRules reads a rules file and all that it includes. texts joins what was
// read, so that a later change can be told.
func parseRules(path string, src []byte) (f *rule.File, diags rule.Diagnostics, texts []byte) {
	texts = bytes.Clone(src)
	f, diags = rule.ParseAll(path, src, func(glob string) ([]rule.Source, error) {
		sources, err := loadIncluded(glob)
		for _, s := range sources {
			texts = append(append(texts, s.Path...), s.Text...)
		}
		return sources, err
	})
	return f, diags, texts
}

// loadIncluded finds the files that an include: names, in name order.
func loadIncluded(glob string) ([]rule.Source, error) {
	paths, err := filepath.Glob(glob)
	if err != nil {
		return nil, err
	}
	if len(paths) == 0 && !strings.ContainsAny(glob, "*?[") {
		return nil, os.ErrNotExist
	}
	var sources []rule.Source
	for _, p := range paths {
		text, err := os.ReadFile(p)
		if err != nil {
			return nil, err
		}
		sources = append(sources, rule.Source{Path: p, Text: text})
	}
	return sources, nil
}

// shown returns a path as it is best shown to a person in the current folder.
func (a *app) shown(path string) string {
	if dir, err := os.Getwd(); err == nil {
		return short(dir, path)
	}
	return path
}

func (a *app) checkCommand() *cobra.Command {
	var strict bool
	c := &cobra.Command{
		Use: "check", Short: "Check the rules file: every error at once, and what looks doubtful",
		RunE: func(*cobra.Command, []string) error { return a.check(strict) },
	}
	c.Flags().BoolVar(&strict, "strict", false, "end with status 1 if there are warnings")
	return a.jsonFlag(c)
}

func (a *app) check(strict bool) error {
	f, diags, err := a.readRules()
	if err != nil {
		return err
	}
	if !diags.Failed() {
		diags = append(diags, advice.Doubts(f)...)
		diags = append(diags, advice.Examples(f, time.Now())...)
		diags.Sort()
	}
	differs := 0
	for _, d := range diags {
		if d.Code == "example" {
			differs++
		}
	}
	errorsFound, warnings := diags.Count()
	if a.json {
		for _, d := range diags {
			if err := a.printJSON(diagnosticJSON(d)); err != nil {
				return err
			}
		}
	} else {
		a.printDiagnostics(a.out, a.style, diags)
		a.summary(f, errorsFound, warnings)
	}
	switch {
	case errorsFound > 0 && errorsFound == differs:
		return &exitError{status: exitFound}
	case errorsFound > 0:
		return &exitError{status: exitUsage}
	case strict && warnings > 0:
		return &exitError{status: exitFound}
	}
	return nil
}

func (a *app) summary(f *rule.File, errorsFound, warnings int) {
	name := a.shown(f.Path)
	if errorsFound > 0 {
		fmt.Fprintf(a.out, "%s: %s, %s.\n", name, a.style.Bad(plural(errorsFound, "error")),
			plural(warnings, "warning"))
		return
	}
	folders := map[string]bool{}
	for _, r := range f.All() {
		for _, w := range r.Folders {
			folders[w] = true
		}
	}
	state := a.style.Good("no errors")
	if warnings > 0 {
		state += ", " + a.style.Warn(plural(warnings, "warning"))
	}
	fmt.Fprintf(a.out, "%s: %s. %s, %s.\n", name, state, plural(len(f.All()), "rule"),
		plural(len(folders), "watched folder"))
}

// printDiagnostics shows each diagnostic in one line, and below it the line of the file
// with what it is about underlined.
func (a *app) printDiagnostics(w interface{ Write([]byte) (int, error) }, st ink.Style, diags rule.Diagnostics) {
	for _, d := range diags {
		word := st.Bad("error")
		if d.Severity == rule.SeverityWarning {
			word = st.Warn("warning")
		}
		hint := ""
		if d.Hint != "" {
			hint = st.Dim(" (" + d.Hint + ")")
		}
		fmt.Fprintf(w, "%s:%d:%d: %s: %s%s\n", a.shown(d.File), d.Line, d.Column, word, d.Message, hint)
		if d.Quote != "" {
			head := fmt.Sprintf("%5d", d.Line)
			fmt.Fprintf(w, "%s | %s\n", head, ink.Clean(d.Quote))
			fmt.Fprintf(w, "%s | %s%s\n", strings.Repeat(" ", len(head)), before(d.Quote, d.Column),
				st.Bad(strings.Repeat("^", max(ink.Width(d.About()), 1))))
		}
	}
}

// before returns what stands before the underlining: the line's own tabs, so that it
// lands in the right column.
func before(line string, column int) string {
	var out strings.Builder
	for i, r := range []rune(line) {
		if i >= column-1 {
			break
		}
		if r == '\t' {
			out.WriteByte('\t')
		} else {
			out.WriteString(strings.Repeat(" ", ink.Width(string(r))))
		}
	}
	return out.String()
}

func diagnosticJSON(d rule.Diagnostic) any {
	return struct {
		Path     string        `json:"file"`
		Line     int           `json:"line"`
		Column   int           `json:"column"`
		Severity rule.Severity `json:"severity"`
		Code     string        `json:"code"`
		Message  string        `json:"message"`
		Hint     string        `json:"hint"`
	}{d.File, d.Line, d.Column, d.Severity, d.Code, d.Message, d.Hint}
}

func (a *app) rulesCommand() *cobra.Command {
	return a.jsonFlag(&cobra.Command{
		Use: "rules [FOLDER]", Short: "The rules in their order: folders, patterns, where each stands",
		Args: cobra.MaximumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error { return a.listRules(args) },
	})
}

func (a *app) listRules(args []string) error {
	f, err := a.loadRules()
	if err != nil {
		return err
	}
	states, err := a.ruleStates(f)
	if err != nil {
		return err
	}
	var rows [][]cell
	for i, r := range f.All() {
		if len(args) == 1 && !watches(r, absolute(args[0])) {
			continue
		}
		var where, match []string
		for _, w := range r.Watch {
			where = append(where, display(short(f.Base, w.Absolute())))
		}
		for _, m := range r.Match {
			match = append(match, ink.Clean(m.S))
		}
		if len(match) == 0 {
			match = []string{"*"}
		}
		state := states[r.Name.S]
		at := fmt.Sprintf("%s:%d", short(f.Base, r.Pos.File), r.Pos.Line)
		if a.json {
			if err := a.printJSON(map[string]any{"rule": r.Name.S, "order": i + 1, "folders": r.Folders,
				"match": match, "state": state, "file": r.Pos.File, "line": r.Pos.Line}); err != nil {
				return err
			}
			continue
		}
		rows = append(rows, []cell{{text: fmt.Sprint(i + 1), right: true}, {text: r.Name.S},
			{text: strings.Join(where, ", ")}, {text: strings.Join(match, ", ")}, {text: string(state)},
			{text: at}})
	}
	if a.json {
		return nil
	}
	if len(rows) == 0 {
		fmt.Fprintf(a.err, "No rule watches %s.\n", args[0])
		return &exitError{status: exitFound}
	}
	a.table([]string{"#", "RULE", "WATCHES", "MATCH", "STATE", "DEFINED AT"}, rows, columns(a.out))
	return nil
}

// ruleStates reports how each rule stands, as status does.
func (a *app) ruleStates(f *rule.File) (map[string]engine.RuleState, error) {
	var watcher *engine.Live
	if live, err := control.Dial(f.StateFolder()).Live(); err == nil {
		watcher = &live
	}
	report, err := engine.Status(f, nil, watcher)
	states := map[string]engine.RuleState{}
	for _, r := range report {
		states[r.Rule] = r.State
	}
	return states, err
}

// watches reports whether a rule watches a folder, by itself or by its depth.
func watches(r *rule.Rule, folder string) bool {
	for _, w := range r.Folders {
		if w == folder {
			return true
		}
		rel, err := filepath.Rel(w, folder)
		if err == nil && rel != "." && !strings.HasPrefix(rel, "..") && strings.Count(rel, "/")+1 <= r.Levels() {
			return true
		}
	}
	return false
}
