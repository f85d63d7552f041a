package cli

import (
	_ "embed"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"stilltide/internal/core/rule"
)

//go:embed init.yaml
var initRules []byte

func (a *app) initCommand() *cobra.Command {
	return &cobra.Command{
		Use: "init [FOLDER]", Short: "Write a commented rules file and its folders to begin with",
		Args: cobra.MaximumNArgs(1),
		Long: `Writes stilltide.yaml, with one rule that works and comments that explain it, into the folder
(the current one if none is named), and makes the folders that the rule names. It never
overwrites a file.`,
		RunE: func(_ *cobra.Command, args []string) error {
			folder := "."
			if len(args) == 1 {
				folder = atHome(args[0])
			}
			return a.init(folder)
		},
	}
}

func (a *app) init(folder string) error {
	for _, sub := range []string{"arrivals"} {
		if err := os.MkdirAll(filepath.Join(folder, sub), 0o777); err != nil {
			return usage("the folder cannot be made: %v", err)
		}
	}
	path := filepath.Join(folder, rule.FileName)
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if errors.Is(err, os.ErrExist) {
		return usage("%s is there already, and was left as it is", a.shown(absolute(path)))
	}
	if err != nil {
		return usage("the rules file cannot be written: %v", err)
	}
	_, err = f.Write(initRules)
	if err = errors.Join(err, f.Close()); err != nil {
		return err
	}
	in := ""
	if folder != "." {
		in = "cd " + folder + "\n  "
	}
	fmt.Fprintf(a.err, `Wrote %s and the folder arrivals. Next:
  %sstilltide check
  stilltide watch
and in another terminal:
  echo 'Gale warning, 14:20' > arrivals/slip-monday.txt
`, a.shown(absolute(path)), in)
	return nil
}

func absolute(path string) string {
	path = atHome(path)
	if abs, err := filepath.Abs(path); err == nil {
		return abs
	}
	return path
}

// atHome puts the home folder in the place of a ~: a shell does not know it in quotes, or
// behind a =.
func atHome(path string) string {
	if home, err := os.UserHomeDir(); err == nil {
		return rule.AtHome(path, home)
	}
	return path
}
