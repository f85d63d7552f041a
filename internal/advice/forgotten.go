package advice

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"stilltide/internal/core/diag"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/ledger"
)

// Forgotten doubts rules that look like others with another name: they remember nothing, and handle again what a rule
// that is gone had handled in their folders and left there.
func Forgotten(f *rule.File, l *ledger.Ledger) (d diag.List, _ error) {
	remember, err := l.Remembering()
	if err != nil {
		return nil, err
	}
	named, knows := f.ByName(), map[string]bool{}
	var gone []string
	for _, name := range remember {
		if knows[name] = true; name != "" && named[name] == nil {
			gone = append(gone, name)
		}
	}
	for _, r := range f.All() {
		if !r.Enabled || r.Existing == rule.ExistingLeave || knows[r.Name.S] {
			continue
		}
		for _, old := range gone {
			if n, folder := knownIn(r, old, l); n > 0 {
				folder = plan.Display(strings.TrimPrefix(folder, f.Base+"/"))
				d = append(d, newName(r, old, plan.Plural(n, "file")+" in "+folder))
			}
		}
	}
	return d, nil
}

// newName doubts a rule that is new, beside one that is gone and remembers some files.
func newName(r *rule.Rule, old, files string) diag.Diagnostic {
	at := r.Name.Pos
	return diag.Diagnostic{Pos: at, Severity: diag.SeverityWarning, Code: "new-name", Quote: quoteLine(at),
		Message: fmt.Sprintf("the rule %s is new, and %s, which is gone, remembers %s: what %s takes of them is "+
			"handled again", r.Name.S, old, files, r.Name.S),
		Hint: "write old_name: " + old + " if it is the same rule under a new name"}
}

// knownIn is how many files of a rule's first folder with any another rule remembers.
func knownIn(r *rule.Rule, other string, l *ledger.Ledger) (n int, folder string) {
	for _, folder := range r.Folders {
		if n, _ := l.KnownBelow(other, folder); n > 0 {
			return n, folder
		}
	}
	return 0, ""
}

// emptyState doubts a state folder that was named while the ledger is in the usual one.
func emptyState(f *rule.File, warn warning) {
	has := func(folder string) bool {
		_, err := os.Stat(filepath.Join(folder, ledger.FileName))
		return err == nil
	}
	usual := rule.StateName
	if f.State.Set() && !has(f.StateFolder()) && has(filepath.Join(f.Base, usual)) {
		warn(f.State.Pos, "new-state", "this folder has no ledger yet, and "+usual+" has one: all files are "+
			"new to the rules", "move "+usual+" here to keep what they remember")
	}
}

// SharedState doubts the state folder that another rules file has, too.
func SharedState(f *rule.File, text, hint string) diag.Diagnostic {
	d := diag.Diagnostic{Pos: f.State.Pos, Severity: diag.SeverityWarning, Code: "shared-state", Message: text,
		Hint: hint, Quote: quoteLine(f.State.Pos)}
	if !f.State.Set() {
		d.Pos = rule.Pos{File: f.Path, Line: 1, Column: 1}
	}
	return d
}
