package begin

import (
	_ "embed"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"stilltide/internal/cli/console"
	"stilltide/internal/core/fill"
	"stilltide/internal/core/rule"
	"stilltide/internal/recipes"
)

//go:embed init.yaml
var initRules []byte

func (a *app) initCommand() *cobra.Command {
	var names []string
	c := &cobra.Command{
		Use: "init [FOLDER]", Short: "Write a commented rules file and its folders to begin with",
		Args: cobra.MaximumNArgs(1),
		Long: `Writes stilltide.yaml into the folder (the current one if none is named), and makes the
folders that its rules watch there: one rule that works with comments that explain it, or the
ready-made rules that --recipe names (see stilltide recipes). It never overwrites a file.`,
		RunE: func(_ *cobra.Command, args []string) error {
			folder := "."
			if len(args) == 1 {
				folder = console.AtHome(args[0])
			}
			return a.init(folder, names)
		},
	}
	c.Flags().StringArrayVar(&names, "recipe", nil, "begin with the recipe `NAME`; may be given several times")
	return c
}

// init writes a rules file into a folder: that of some recipes, or the usual one.
func (a *app) init(folder string, names []string) error {
	text := initRules
	if len(names) > 0 {
		joined, err := joinRecipes(names)
		if err != nil {
			return err
		}
		text = []byte(joined)
	}
	path := filepath.Join(folder, rule.FileName)
	if err := os.MkdirAll(folder, 0o777); err != nil {
		return console.Usage("the folder cannot be made: %v", err)
	}
	if err := writeNew(path, text); errors.Is(err, os.ErrExist) {
		return console.Usage("%s is there already, and was left as it is", a.Shown(console.Absolute(path)))
	} else if err != nil {
		return console.Usage("the rules file cannot be written: %v", err)
	}
	made, err := makeWatched(console.Absolute(path), text)
	if err != nil {
		return console.Usage("%s was written, but a folder that it watches cannot be made: %v",
			a.Shown(console.Absolute(path)), err)
	}
	fmt.Fprintf(a.Err, "Wrote %s%s. Next:\n", a.Shown(console.Absolute(path)), madeFolders(made))
	if folder != "." {
		fmt.Fprintf(a.Err, "  cd %s\n", fill.QuoteWord(folder))
	}
	fmt.Fprint(a.Err, "  stilltide check\n  stilltide watch\n")
	if len(names) == 0 {
		fmt.Fprint(a.Err, "and in another terminal:\n  echo 'Gale warning, 14:20' > arrivals/slip-monday.txt\n")
	}
	return nil
}

// joinRecipes is the rules file of some recipes.
func joinRecipes(names []string) (string, error) {
	var list []recipes.Recipe
	for i, name := range names {
		if slices.Contains(names[:i], name) {
			continue
		}
		r, err := recipeNamed(name)
		if err != nil {
			return "", err
		}
		list = append(list, r)
	}
	text, err := recipes.Join(list)
	if err != nil {
		return "", console.Usage("%v", err)
	}
	return text, nil
}

// writeNew writes a file that must not be there.
func writeNew(path string, text []byte) error {
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if err != nil {
		return err
	}
	_, err = f.Write(text)
	return errors.Join(err, f.Close())
}

// makeWatched makes the folders below a rules file that its rules watch. It returns those
// that were not there, as they stand in the rules.
func makeWatched(path string, text []byte) (made []string, err error) {
	f, diags, _ := console.ParseRules(path, text)
	if diags.Failed() {
		return nil, nil // check says it
	}
	for _, r := range f.All() {
		for _, folder := range r.Folders {
			rel := console.Short(f.Base, folder)
			if _, err := os.Stat(folder); err == nil || !filepath.IsLocal(rel) || strings.HasPrefix(rel, "~") {
				continue // elsewhere on this machine
			}
			if err := os.MkdirAll(folder, 0o777); err != nil {
				return made, err
			}
			made = append(made, rel)
		}
	}
	return made, nil
}

// madeFolders says in words which folders were made.
func madeFolders(made []string) string {
	switch len(made) {
	case 0:
		return ""
	case 1:
		return " and the folder " + made[0]
	}
	return " and the folders " + strings.Join(made, ", ")
}
