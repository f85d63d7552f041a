package cli

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"stilltide/internal/advice"
	"stilltide/internal/core/diag"
	"stilltide/internal/core/notation"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/ink"
	"stilltide/internal/jsonlines"
	"stilltide/internal/standing"
)

// findRules returns the rules file's absolute path.
func (a *app) findRules() (string, error) {
	if a.rules != "" {
		return absolute(a.rules), nil
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
		return nil, usage("%s in %s; nothing was started", plan.Plural(n, "error"), a.shown(f.Path))
	}
	a.warnings = diags
	return f, nil
}

func (a *app) readRules() (*rule.File, diag.List, error) {
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
func parseRules(path string, src []byte) (f *rule.File, diags diag.List, texts []byte) {
	texts = bytes.Clone(src)
	load := func(glob string) ([]rule.Source, error) {
		sources, err := loadIncluded(glob)
		for _, s := range sources {
			texts = append(append(texts, s.Path...), s.Text...)
		}
		return sources, err
	}
	f, diags = parseWith(path, src, load)
	return f, diags, texts
}

// parseWith reads a rules file; load finds the files that it includes.
func parseWith(path string, src []byte, load rule.Load) (*rule.File, diag.List) {
	home, _ := os.UserHomeDir() // without one ~ stands for itself
	return notation.ParseAll(path, src, rule.Machine{Home: home, Load: load, Zones: time.LoadLocation,
		CPUs: runtime.NumCPU()})
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
		diags = append(diags, advice.Scripts(f)...)
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
		err := a.printJSON(jsonlines.Checked{File: f.Path, Errors: errorsFound, Warnings: warnings, Rules: len(f.All()),
			Folders: watchedFolders(f)})
		for _, d := range diags {
			err = errors.Join(err, a.printJSON(finding(d)))
		}
		if err != nil {
			return err
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
		fmt.Fprintf(a.out, "%s: %s, %s.\n", name, a.style.Bad(plan.Plural(errorsFound, "error")),
			plan.Plural(warnings, "warning"))
		return
	}
	state := a.style.Good("no errors")
	if warnings > 0 {
		state += ", " + a.style.Warn(plan.Plural(warnings, "warning"))
	}
	fmt.Fprintf(a.out, "%s: %s. %s, %s.\n", name, state, plan.Plural(len(f.All()), "rule"),
		plan.Plural(watchedFolders(f), "watched folder"))
}

// watchedFolders counts the folders that the rules watch.
func watchedFolders(f *rule.File) int {
	folders := map[string]bool{}
	for _, r := range f.All() {
		for _, w := range r.Folders {
			folders[w] = true
		}
	}
	return len(folders)
}

func finding(d diag.Diagnostic) jsonlines.Finding {
	return jsonlines.Finding{File: d.File, Line: d.Line, Column: d.Column, Severity: string(d.Severity), Code: d.Code,
		Message: d.Message, Hint: d.Hint, Quote: d.Quote, About: d.About()}
}

func (a *app) rulesCommand() *cobra.Command {
	c := a.jsonFlag(&cobra.Command{
		Use: "rules [FOLDER]", Short: "The rules in their order: folders, what they take, where each stands",
		Args: cobra.MaximumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error { return a.listRules(args) },
	})
	c.AddCommand(a.addRuleCommand(), a.editRulesCommand())
	return c
}

func (a *app) listRules(args []string) error {
	f, err := a.loadRules()
	if err != nil {
		return err
	}
	watcher, l, err := a.ask(f)
	if err != nil {
		return err
	}
	if l != nil {
		defer l.Close()
	}
	s, err := a.standing(f, nil, l, watcher)
	if err != nil {
		return err
	}
	var rows [][]cell
	for i, r := range f.All() {
		if len(args) == 1 && !watches(r, absolute(args[0])) {
			continue
		}
		if a.json {
			if err := a.printJSON(ruleLineOf(r, s.Rules[i], i+1)); err != nil {
				return err
			}
			continue
		}
		rows = append(rows, a.ruleRow(f, r, s.Rules[i], i+1))
	}
	switch {
	case a.json:
	case len(rows) == 0 && len(args) == 1:
		fmt.Fprintf(a.err, "No rule watches %s.\n", args[0])
		return &exitError{status: exitFound}
	default:
		a.table([]string{"#", "RULE", "WATCHES", "TAKES", "STATE", "DEFINED AT"}, rows)
		fmt.Fprintf(a.out, "\nRules file: %s\n", f.Path)
	}
	return nil
}

func ruleLineOf(r *rule.Rule, s standing.Rule, order int) jsonlines.Rule {
	line := jsonlines.Rule{Rule: r.Name.S, Order: order, Folders: r.Folders, Depth: r.Depth.String(),
		Takes: plan.Takes(r), State: s.State, Held: s.Held, Notes: s.Notes, File: r.Pos.File,
		Line: r.Pos.Line, Match: []string{}}
	for _, m := range r.Match {
		line.Match = append(line.Match, m.S)
	}
	if line.Notes == nil {
		line.Notes = []string{}
	}
	if r.Processed != nil {
		line.Processed = r.Processed.To.S
	}
	if r.Failed != nil {
		line.Failed = r.Failed.To.S
	}
	return line
}

func (a *app) ruleRow(f *rule.File, r *rule.Rule, s standing.Rule, order int) []cell {
	state := string(s.State)
	if s.Held > 0 {
		state += fmt.Sprintf(" (%s held)", plan.Plural(s.Held, "file"))
	}
	paint := a.style.Good
	if s.State != standing.Watching {
		paint = a.style.Warn
	}
	return []cell{{text: fmt.Sprint(order), right: true}, {text: r.Name.S}, {text: watchedBy(f, r)},
		{text: ink.Clean(plan.Takes(r))}, {text: state, paint: paint, whole: true},
		{text: fmt.Sprintf("%s:%d", short(f.Base, r.Pos.File), r.Pos.Line)}}
}

// watchedBy lists a rule's folders, and how deep it looks.
func watchedBy(f *rule.File, r *rule.Rule) string {
	var where []string
	for _, w := range r.Watch {
		where = append(where, display(short(f.Base, w.Absolute())))
	}
	text := strings.Join(where, ", ")
	if d := r.Depth.String(); d != "0" {
		text += " (depth " + d + ")"
	}
	return text
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
