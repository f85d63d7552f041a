package cli

import (
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"stilltide/internal/cli/console"
	"stilltide/internal/manual"
)

// released is the date on the manual pages: that of the version.
var released = time.Date(2026, 11, 26, 0, 0, 0, 0, time.UTC)

// manCommand writes the manual pages.
func (a *app) manCommand() *cobra.Command {
	return &cobra.Command{
		Use: "man FOLDER", Short: "Write the manual pages into a folder of manuals",
		Long: `Writes a manual page for each command into a folder, made from the commands themselves, and
stilltide.yaml(5), made from the model of the rules file. Where man looks for them:

    stilltide man ~/.local/share/man
    man stilltide-watch`,
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			root := c.Root()
			root.InitDefaultCompletionCmd()
			args[0] = console.AtHome(args[0])
			names, err := manual.Write(root, args[0], released)
			if err != nil {
				return err
			}
			fmt.Fprintf(a.Err, "%d pages are in %s; to read one: man -l %s/man1/stilltide.1\n", len(names),
				console.Display(args[0]),
				console.Display(args[0]))
			return nil
		},
	}
}
