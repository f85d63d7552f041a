package cli

import (
	"fmt"
	"os"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"
)

// manCommand writes the manual pages from the command tree, so that they say
// what the program does.
func (a *app) manCommand() *cobra.Command {
	return &cobra.Command{
		Use: "man FOLDER", Short: "Write the manual pages into a folder",
		Long: `Writes a manual page for each command into a folder, made from the commands themselves:

    stilltide man ~/.local/share/man/man1
    man stilltide-watch`,
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			if err := os.MkdirAll(args[0], 0o777); err != nil {
				return err
			}
			root := c.Root()
			root.DisableAutoGenTag = true // the same program makes the same pages
			head := &doc.GenManHeader{Title: "STILLTIDE", Section: "1", Source: "Still Tide " + Version, Manual: "Still Tide"}
			if err := doc.GenManTree(root, head, args[0]); err != nil {
				return err
			}
			fmt.Fprintf(a.err, "The pages are in %s; man stilltide shows the first if it is on the manual's path.\n", display(args[0]))
			return nil
		},
	}
}
