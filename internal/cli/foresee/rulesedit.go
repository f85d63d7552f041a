package foresee

import (
	"cmp"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"stilltide/internal/cli/console"
	"stilltide/internal/core/diag"
	"stilltide/internal/core/fill"
	"stilltide/internal/core/rule"
)

func (a *app) editRulesCommand() *cobra.Command {
	return &cobra.Command{
		Use: "edit [RULE]", Short: "Open the rules in your editor, at a rule, and check them afterwards",
		Args: cobra.MaximumNArgs(1),
		Long: `Opens the rules file in the editor that VISUAL or EDITOR names (vi if neither does), at the line
of the named rule. What is edited is a copy: it is checked when the editor ends, and takes the
place of the rules file only without errors. With errors it is offered to go back in.`,
		RunE: func(_ *cobra.Command, args []string) error { return a.editRules(args) },
	}
}

// editRules edits a copy of the rules file until it has no errors, and puts it in its place.
func (a *app) editRules(args []string) error {
	f, _, err := a.ReadRules()
	if err != nil {
		return err
	}
	path, line := f.Path, 1
	if len(args) == 1 {
		at := slices.IndexFunc(f.All(), func(r *rule.Rule) bool { return r.Name.S == args[0] })
		if at < 0 {
			return a.NoRule(f, args[0])
		}
		path, line = f.All()[at].Pos.File, f.All()[at].Pos.Line
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	copied := filepath.Join(filepath.Dir(path), ".stilltide-edit-"+filepath.Base(path))
	if err := os.WriteFile(copied, text, 0o600); err != nil {
		return console.Usage("a copy of %s cannot be made beside it: %v", a.Shown(path), err)
	}
	defer os.Remove(copied)
	for {
		if err := a.runEditor(copied, line); err != nil {
			return err
		}
		edited, err := os.ReadFile(copied)
		if err != nil {
			return err
		}
		if string(edited) == string(text) {
			fmt.Fprintln(a.Err, "Nothing was changed.")
			return nil
		}
		diags := a.checkEdited(f, path, edited)
		if !diags.Failed() {
			return a.takeEdited(path, string(text), string(edited))
		}
		a.PrintDiagnostics(a.Err, a.StyleErr, diags)
		if !a.CanAsk() || !a.Agreed("The rules have errors, so they are not used. Edit them again?") {
			return console.Usage("%s was left as it was; what was edited is lost", a.Shown(path))
		}
		line = max(diags[0].Line, 1)
	}
}

// checkEdited checks the rules with new text in the place of one of their files.
func (a *app) checkEdited(f *rule.File, path string, edited []byte) diag.List {
	if path == f.Path {
		_, diags, _ := console.ParseRules(path, edited)
		return diags
	}
	main, err := os.ReadFile(f.Path)
	if err != nil {
		return diag.List{{Severity: diag.SeverityError, Pos: rule.Pos{File: f.Path},
			Message: err.Error()}}
	}
	_, diags := console.ParseWith(f.Path, main, func(glob string) ([]rule.Source, error) {
		sources, err := console.LoadIncluded(glob)
		for i := range sources {
			if sources[i].Path == path {
				sources[i].Text = edited
			}
		}
		return sources, err
	})
	return diags
}

// takeEdited puts the edited text in its place, unless that was changed meanwhile.
func (a *app) takeEdited(path, was, edited string) error {
	if now, err := os.ReadFile(path); err != nil || string(now) != was {
		return console.Usage("%s was changed by somebody else meanwhile, so it was left as it is", a.Shown(path))
	}
	if err := replaceFile(path, edited); err != nil {
		return console.Usage("%s cannot be written: %v", a.Shown(path), err)
	}
	fmt.Fprintf(a.Err, "%s: no errors; a running watcher takes it up now.\n", a.Shown(path))
	return nil
}

// runEditor edits a file at a line. Editors that know no +LINE are given the file alone.
func (a *app) runEditor(path string, line int) error {
	editor := cmp.Or(os.Getenv("VISUAL"), os.Getenv("EDITOR"), "vi")
	words, err := fill.ParseCommand(editor)
	if err != nil {
		return console.Usage("the editor %q cannot be started: %v", editor, err)
	}
	var args []string
	for _, w := range words.Words {
		args = append(args, w.String())
	}
	switch strings.TrimSuffix(filepath.Base(args[0]), ".exe") {
	case "vi", "vim", "nvim", "view", "nano", "emacs", "emacsclient", "micro", "joe", "mg", "ne", "kak":
		args = append(args, fmt.Sprintf("+%d", line))
	}
	c := exec.Command(args[0], append(args[1:], path)...)
	c.Stdin, c.Stdout, c.Stderr = a.In, a.Out, a.Err
	if err := c.Run(); err != nil {
		return console.Usage("the editor %s failed: %v; nothing was changed", args[0], err)
	}
	return nil
}
