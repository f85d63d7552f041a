// Package cli is the command tree and what the commands print.
//
// It decides nothing about files: it asks the other packages and shows their
// answers. Data goes to standard output, everything else to standard error.
package cli

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"stilltide/internal/core/diag"
	"stilltide/internal/ink"
	"stilltide/internal/jsonlines"
	"stilltide/internal/ledger"
)

// Version is the program's version.
const Version = "0.1.0"

// Exit statuses.
const (
	exitFound = 1 // it ran, and something failed or was found
	exitUsage = 2 // wrong usage or rules
	exitBusy  = 3 // another watcher holds this ledger
)

// exitError ends the program with a status. An empty message prints nothing.
type exitError struct {
	status int
	text   string
}

func (e *exitError) Error() string { return e.text }

func found(text string) error { return &exitError{exitFound, text} }

func usage(format string, args ...any) error {
	return &exitError{exitUsage, fmt.Sprintf(format, args...)}
}

// app is what all commands share.
type app struct {
	in        io.Reader
	out, err  io.Writer
	rules     string // --config
	json      bool   // --json
	wide      bool   // --wide
	trust     bool   // --trust-rules
	beside    bool   // --beside
	logFormat string // --log-format
	board     board
	warnings  diag.List // of the rules that were read last
	read      []byte    // the texts of the rules that were read last
	style     ink.Style // of standard output
	styleErr  ink.Style // of standard error
}

// Main runs the program and gives its exit status.
func Main(args []string, in io.Reader, out, errOut io.Writer) int {
	a := &app{in: in, out: out, err: errOut, style: ink.For(out), styleErr: ink.For(errOut)}
	root := a.root()
	root.SetArgs(args)
	root.SetIn(in)
	root.SetOut(out)
	root.SetErr(errOut)
	err := root.Execute()
	if err == nil {
		return 0
	}
	var exit *exitError
	switch {
	case errors.As(err, &exit):
		if exit.text != "" {
			fmt.Fprintf(errOut, "stilltide: %s\n", exit.text)
		}
		return exit.status
	case errors.Is(err, ledger.ErrBusy):
		fmt.Fprintf(errOut, "stilltide: %v\n", err)
		return exitBusy
	case errors.Is(err, errUsage):
		fmt.Fprintf(errOut, "stilltide: %s\n", strings.TrimPrefix(err.Error(), errUsage.Error()+": "))
		return exitUsage
	}
	fmt.Fprintf(errOut, "stilltide: %v\n", err)
	return exitFound
}

var errUsage = errors.New("usage")

func (a *app) root() *cobra.Command {
	cobra.EnableCommandSorting = false // the order of the groups is the order of work
	root := &cobra.Command{
		Use:   "stilltide",
		Short: "Watch folders and process the files that arrive",
		Long: `Still Tide watches folders and processes the files that arrive: it waits until a file is
complete, runs a command or a script on it, retries when that fails, and moves the file to a
processed or a failed folder. A ledger records what it did, and why.

Begin with: stilltide init, then stilltide watch. To see it at work: stilltide demo.`,
		Version:       Version,
		SilenceErrors: true,
		SilenceUsage:  true,
	}
	root.PersistentFlags().StringVarP(&a.rules, "config", "c", "",
		"the rules `FILE` (default: stilltide.yaml here, in a parent folder, or in the XDG config folder)")
	root.PersistentFlags().BoolVar(&a.wide, "wide", false, "shorten nothing to the width of the terminal")
	root.SetVersionTemplate("stilltide {{.Version}}\n")
	root.SetFlagErrorFunc(func(c *cobra.Command, err error) error {
		return fmt.Errorf("%w: %v; see %s --help", errUsage, err, c.CommandPath())
	})
	for _, g := range []struct {
		id, title string
		commands  []*cobra.Command
	}{
		{"begin", "To begin:", []*cobra.Command{a.initCommand(), a.recipesCommand(), a.demoCommand(),
			a.quickCommand()}},
		{"before", "Before anything happens:", []*cobra.Command{a.checkCommand(), a.previewCommand(),
			a.whyCommand(), a.tryCommand(), a.rulesCommand(), a.tellCommand()}},
		{"work", "At work:", []*cobra.Command{a.watchCommand(), a.sweepCommand(), a.serviceCommand(),
			a.fleetCommand()}},
		{"see", "To see how it goes:", []*cobra.Command{a.statusCommand(), a.jobsCommand(), a.reportCommand()}},
		{"act", "To act on it:", []*cobra.Command{a.retryCommand(), a.undoCommand(), a.cancelCommand(),
			a.pauseCommand(), a.resumeCommand(), a.dismissCommand()}},
		{"more", "More:", []*cobra.Command{a.schemaCommand(), a.manCommand(), a.versionCommand()}},
	} {
		root.AddGroup(&cobra.Group{ID: g.id, Title: g.title})
		for _, c := range g.commands {
			c.GroupID = g.id
			root.AddCommand(c)
		}
	}
	root.SetHelpCommandGroupID("more")
	root.SetCompletionCommandGroupID("more")
	for _, c := range root.Commands() {
		wrapArgs(c)
	}
	a.complete(root)
	root.Args = func(_ *cobra.Command, args []string) error {
		if len(args) > 0 {
			return fmt.Errorf("%w: there is no command %q; see stilltide --help", errUsage, args[0])
		}
		return nil
	}
	root.RunE = func(c *cobra.Command, _ []string) error { return c.Help() }
	return root
}

// wrapArgs makes wrong arguments end with the status for wrong usage.
func wrapArgs(c *cobra.Command) {
	check := c.Args
	if check == nil {
		check = cobra.NoArgs
	}
	c.Args = func(c *cobra.Command, args []string) error {
		if err := check(c, args); err != nil {
			return fmt.Errorf("%w: %s is not how it is called; write: %s %s", errUsage,
				strings.Join(append([]string{c.CommandPath()}, args...), " "), c.Parent().CommandPath(), c.Use)
		}
		return nil
	}
	for _, sub := range c.Commands() {
		wrapArgs(sub)
	}
}

// jsonFlag adds --json to a command that prints data.
func (a *app) jsonFlag(c *cobra.Command) *cobra.Command {
	c.Flags().BoolVar(&a.json, "json", false, "print one JSON object a line")
	return c
}

func (a *app) versionCommand() *cobra.Command {
	return a.jsonFlag(&cobra.Command{
		Use: "version", Short: "Print the version",
		RunE: func(*cobra.Command, []string) error {
			if a.json {
				return a.printJSON(jsonlines.Version{Version: Version})
			}
			fmt.Fprintf(a.out, "stilltide %s\n", Version)
			return nil
		},
	})
}

// short returns a path below base as a relative one: shorter to read, and as it
// stands in the rules.
func short(base, path string) string {
	rel, below := strings.CutPrefix(path, base+string(filepath.Separator))
	if !below || !filepath.IsLocal(rel) {
		var err error
		if rel, err = filepath.Rel(base, path); err != nil || rel == ".." || strings.HasPrefix(rel,
			".."+string(filepath.Separator)) {
			return fromHome(path)
		}
	}
	if strings.HasPrefix(rel, "~") {
		return "." + string(filepath.Separator) + rel // no home folder
	}
	return rel
}

// fromHome returns a path below the home folder with a ~ in its place.
func fromHome(path string) string {
	if home, err := os.UserHomeDir(); err == nil && home != "/" && strings.HasPrefix(path, home+"/") {
		return "~" + path[len(home):]
	}
	return path
}
