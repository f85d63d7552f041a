package foresee

import (
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"stilltide/internal/advice"
	"stilltide/internal/cli/console"
	"stilltide/internal/core/diag"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/ink"
	"stilltide/internal/jsonlines"
	"stilltide/internal/standing"
)

func (a *app) checkCommand() *cobra.Command {
	var strict bool
	c := &cobra.Command{
		Use: "check", Short: "Check the rules file: every error at once, and what looks doubtful",
		RunE: func(*cobra.Command, []string) error { return a.check(strict) },
	}
	c.Flags().BoolVar(&strict, "strict", false, "end with status 1 if there are warnings")
	return a.JSONFlag(c)
}

func (a *app) check(strict bool) error {
	f, diags, err := a.ReadRules()
	if err != nil {
		return err
	}
	if !diags.Failed() {
		diags = append(diags, advice.Doubts(f)...)
		diags = append(diags, a.Forgotten(f)...)
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
	if a.JSON {
		err := a.PrintJSON(jsonlines.Checked{File: f.Path, Errors: errorsFound, Warnings: warnings, Rules: len(f.All()),
			Folders: WatchedFolders(f)})
		for _, d := range diags {
			err = errors.Join(err, a.PrintJSON(finding(d)))
		}
		if err != nil {
			return err
		}
	} else {
		a.PrintDiagnostics(a.Out, a.Style, diags)
		a.summary(f, errorsFound, warnings)
	}
	switch {
	case errorsFound > 0 && errorsFound == differs:
		return &console.ExitError{Status: console.ExitFound}
	case errorsFound > 0:
		return &console.ExitError{Status: console.ExitUsage}
	case strict && warnings > 0:
		return &console.ExitError{Status: console.ExitFound}
	}
	return nil
}

func (a *app) summary(f *rule.File, errorsFound, warnings int) {
	name := a.Shown(f.Path)
	if errorsFound > 0 {
		fmt.Fprintf(a.Out, "%s: %s, %s.\n", name, a.Style.Bad(plan.Plural(errorsFound, "error")),
			plan.Plural(warnings, "warning"))
		return
	}
	state := a.Style.Good("no errors")
	if warnings > 0 {
		state += ", " + a.Style.Warn(plan.Plural(warnings, "warning"))
	}
	fmt.Fprintf(a.Out, "%s: %s. %s, %s.\n", name, state, plan.Plural(len(f.All()), "rule"),
		plan.Plural(WatchedFolders(f), "watched folder"))
}

// WatchedFolders counts the folders that the rules watch.
func WatchedFolders(f *rule.File) int {
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
	c := a.JSONFlag(&cobra.Command{
		Use: "rules [FOLDER]", Short: "The rules in their order: folders, what they take, where each stands",
		Args: cobra.MaximumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error { return a.listRules(args) },
	})
	c.AddCommand(a.addRuleCommand(), a.editRulesCommand())
	return c
}

func (a *app) listRules(args []string) error {
	f, err := a.LoadRules()
	if err != nil {
		return err
	}
	watcher, l, err := a.Ask(f)
	if err != nil {
		return err
	}
	if l != nil {
		defer l.Close()
	}
	s, err := a.Standing(f, nil, l, watcher)
	if err != nil {
		return err
	}
	var rows [][]console.Cell
	for i, r := range f.All() {
		if len(args) == 1 && !watches(r, console.At(f, args[0])) {
			continue
		}
		if a.JSON {
			if err := a.PrintJSON(ruleLineOf(r, s.Rules[i], i+1)); err != nil {
				return err
			}
			continue
		}
		rows = append(rows, a.ruleRow(f, r, s.Rules[i], i+1))
	}
	switch {
	case a.JSON:
	case len(rows) == 0 && len(args) == 1:
		fmt.Fprintf(a.Err, "No rule watches %s.\n", args[0])
		return &console.ExitError{Status: console.ExitFound}
	default:
		a.Table([]string{"#", "RULE", "WATCHES", "TAKES", "STATE", "DEFINED AT"}, rows)
		fmt.Fprintf(a.Out, "\nRules file: %s\n", f.Path)
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

func (a *app) ruleRow(f *rule.File, r *rule.Rule, s standing.Rule, order int) []console.Cell {
	state := string(s.State)
	if s.Held > 0 {
		state += fmt.Sprintf(" (%s held)", plan.Plural(s.Held, "file"))
	}
	paint := a.Style.Good
	if s.State != standing.Watching {
		paint = a.Style.Warn
	}
	return []console.Cell{{Text: fmt.Sprint(order), Right: true}, {Text: r.Name.S}, {Text: WatchedBy(f, r)},
		{Text: ink.Clean(plan.Takes(r))}, {Text: state, Paint: paint, Whole: true},
		{Text: fmt.Sprintf("%s:%d", console.Short(f.Base, r.Pos.File), r.Pos.Line)}}
}

// WatchedBy lists a rule's folders, and how deep it looks.
func WatchedBy(f *rule.File, r *rule.Rule) string {
	var where []string
	for _, w := range r.Watch {
		where = append(where, console.Display(console.Short(f.Base, w.Absolute())))
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
