// Package cli is the command tree: it puts the groups of commands together and runs one.
//
// It decides nothing about files: the commands ask the other packages and show their
// answers. Data goes to standard output, everything else to standard error.
package cli

import (
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"stilltide/internal/cli/act"
	"stilltide/internal/cli/atwork"
	"stilltide/internal/cli/begin"
	"stilltide/internal/cli/console"
	"stilltide/internal/cli/foresee"
	"stilltide/internal/cli/see"
	"stilltide/internal/ink"
	"stilltide/internal/jsonlines"
	"stilltide/internal/ledger"
	"stilltide/internal/runner"
)

// app is what the commands of this package have: what all commands share.
type app struct{ *console.App }

// Main runs the program and gives its exit status.
func Main(args []string, in io.Reader, out, errOut io.Writer) int {
	if len(args) == 1 && args[0] == runner.Starts && runner.ServeStarts() {
		return 0
	}
	a := &app{&console.App{In: in, Out: out, Err: errOut, Style: ink.For(out), StyleErr: ink.For(errOut)}}
	root := a.root()
	root.SetArgs(args)
	root.SetIn(in)
	root.SetOut(out)
	root.SetErr(errOut)
	err := root.Execute()
	if err == nil {
		return 0
	}
	var exit *console.ExitError
	switch {
	case errors.As(err, &exit):
		if exit.Text != "" {
			fmt.Fprintf(errOut, "stilltide: %s\n", exit.Text)
		}
		return exit.Status
	case console.IsUnread(err):
		return console.ExitUnread
	case errors.Is(err, ledger.ErrBusy):
		fmt.Fprintf(errOut, "stilltide: %v\n", err)
		return console.ExitBusy
	case errors.Is(err, errUsage):
		fmt.Fprintf(errOut, "stilltide: %s\n", strings.TrimPrefix(err.Error(), errUsage.Error()+": "))
		return console.ExitUsage
	}
	fmt.Fprintf(errOut, "stilltide: %v\n", err)
	return console.ExitFound
}

var errUsage = errors.New("usage")

// root is the whole command tree.
func (a *app) root() *cobra.Command {
	cobra.EnableCommandSorting = false // the order of the groups is the order of work
	root := &cobra.Command{
		Use:   "stilltide",
		Short: "Watch folders and process the files that arrive",
		Long: `Still Tide watches folders and processes the files that arrive: it waits until a file is
complete, runs a command or a script on it, retries when that fails, and moves the file to a
processed or a failed folder. A ledger records what it did, and why.

Begin with: stilltide init, then stilltide watch. To see it at work: stilltide demo.`,
		Version:       console.Version,
		SilenceErrors: true,
		SilenceUsage:  true,
	}
	root.PersistentFlags().StringVarP(&a.Rules, "config", "c", "",
		"the rules `FILE` (default: stilltide.yaml here, in a parent folder, or in the XDG config folder)")
	root.PersistentFlags().BoolVar(&a.Wide, "wide", false, "shorten nothing to the width of the terminal")
	root.SetVersionTemplate("stilltide {{.Version}}\n")
	root.SetFlagErrorFunc(func(c *cobra.Command, err error) error {
		return fmt.Errorf("%w: %v; see %s --help", errUsage, err, c.CommandPath())
	})
	for _, g := range []struct {
		id, title string
		commands  []*cobra.Command
	}{
		{"begin", "To begin:", begin.Commands(a.App, a.again)},
		{"before", "Before anything happens:", foresee.Commands(a.App)},
		{"work", "At work:", atwork.Commands(a.App)},
		{"see", "To see how it goes:", see.Commands(a.App)},
		{"act", "To act on it:", act.Commands(a.App)},
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

// again runs another command in this process, as if it were given on the command line.
func (a *app) again(args ...string) error {
	root := (&app{a.Again()}).root()
	root.SetArgs(args)
	root.SetOut(a.Out)
	root.SetErr(a.Err)
	return root.Execute()
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

func (a *app) versionCommand() *cobra.Command {
	return a.JSONFlag(&cobra.Command{
		Use: "version", Short: "Print the version",
		RunE: func(*cobra.Command, []string) error {
			if a.JSON {
				return a.PrintJSON(jsonlines.Version{Version: console.Version})
			}
			fmt.Fprintf(a.Out, "stilltide %s\n", console.Version)
			return nil
		},
	})
}
