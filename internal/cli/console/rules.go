package console

import (
	"bytes"
	"errors"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"time"

	"stilltide/internal/core/diag"
	"stilltide/internal/core/notation"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	_ "stilltide/internal/verbs" // what steps do
)

// DidYouMean is the end of a sentence that names the nearest of the known words, or nothing.
func DidYouMean(word string, known []string) string {
	if near := diag.Nearest(word, known); near != "" {
		return "; did you mean " + near + "?"
	}
	return ""
}

// RuleNames are the names of the rules, in their order.
func RuleNames(f *rule.File) []string {
	var names []string
	for _, r := range f.All() {
		names = append(names, r.Name.S)
	}
	return names
}

// KnowsRule reports whether there is a rule with a name.
func KnowsRule(f *rule.File, name string) bool {
	for _, n := range RuleNames(f) {
		if n == name {
			return true
		}
	}
	return false
}

// FindRules returns the rules file's absolute path.
func (a *App) FindRules() (string, error) {
	if a.Rules != "" {
		return withoutLinks(Absolute(a.Rules)), nil
	}
	dir, err := Here()
	if err != nil {
		return "", err
	}
	start := dir
	for {
		path := filepath.Join(dir, rule.FileName)
		if _, err := os.Stat(path); err == nil {
			return withoutLinks(path), nil
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
			return withoutLinks(path), nil
		}
	}
	return "", Usage("there is no %s in %s or above it; stilltide init writes one, --config FILE names another",
		rule.FileName, start)
}

// LoadRules reads the rules file. Errors in it are printed, and the error
// ends the program with the status for wrong rules.
func (a *App) LoadRules() (*rule.File, error) {
	f, diags, err := a.ReadRules()
	if err != nil {
		return nil, err
	}
	if diags.Failed() {
		a.PrintDiagnostics(a.Err, a.StyleErr, diags)
		n, _ := diags.Count()
		return nil, Usage("%s in %s; nothing was started", plan.Plural(n, "error"), a.Shown(f.Path))
	}
	a.Warnings = diags
	return f, nil
}

// ReadRules reads the rules file, right or wrong. The error is for one that cannot be read at all.
func (a *App) ReadRules() (*rule.File, diag.List, error) {
	path, err := a.FindRules()
	if err != nil {
		return nil, nil, err
	}
	src, err := os.ReadFile(path)
	if err != nil {
		var pe *os.PathError
		if errors.Is(err, os.ErrNotExist) {
			return nil, nil, Usage("the rules file %s is not there; stilltide init writes one to begin with", path)
		}
		if errors.As(err, &pe) {
			err = pe.Err
		}
		return nil, nil, Usage("the rules file %s cannot be read: %v", path, err)
	}
	f, diags, texts := ParseRules(path, src)
	a.Texts, a.Warnings = texts, diags
	return f, diags, nil
}

// ParseRules reads a rules file and all that it includes. texts joins what was
// read, so that a later change can be told.
func ParseRules(path string, src []byte) (f *rule.File, diags diag.List, texts []byte) {
	texts = bytes.Clone(src)
	load := func(glob string) ([]rule.Source, error) {
		sources, err := LoadIncluded(glob)
		for _, s := range sources {
			texts = append(append(texts, s.Path...), s.Text...)
		}
		return sources, err
	}
	f, diags = ParseWith(path, src, load)
	return f, diags, texts
}

// ParseWith reads a rules file; load finds the files that it includes.
func ParseWith(path string, src []byte, load rule.Load) (*rule.File, diag.List) {
	home, _ := os.UserHomeDir() // without one ~ stands for itself
	return notation.ParseAll(path, src, rule.Machine{Home: home, Load: load, Zones: time.LoadLocation,
		CPUs: runtime.NumCPU()})
}

// LoadIncluded finds the files that an include: names, in name order.
func LoadIncluded(glob string) ([]rule.Source, error) {
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

// NoRule says that there is no rule with a name, and which name is near.
func (a *App) NoRule(f *rule.File, name string) error {
	return Usage("there is no rule named %s in %s%s", name, a.Shown(f.Path), DidYouMean(name, RuleNames(f)))
}
