package cli

import (
	"embed"
	"fmt"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"
)

// manPages are made from the command tree, so that they say what the program
// does, but not by the program itself: what makes them takes a while to get
// ready, and each start would pay for it. The test of this room tells when they
// are old, and makes them anew.
//
//go:embed man
var manPages embed.FS

// manCommand writes the manual pages.
func (a *app) manCommand() *cobra.Command {
	return &cobra.Command{
		Use: "man FOLDER", Short: "Write the manual pages into a folder",
		Long: `Writes a manual page for each command into a folder, made from the commands themselves:

    stilltide man ~/.local/share/man/man1
    man stilltide-watch`,
		Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			if err := os.MkdirAll(args[0], 0o777); err != nil {
				return err
			}
			pages, err := manPages.ReadDir("man")
			if err != nil {
				return err
			}
			for _, page := range pages {
				text, err := manPages.ReadFile("man/" + page.Name())
				if err != nil {
					return err
				}
				if err := os.WriteFile(filepath.Join(args[0], page.Name()), text, 0o666); err != nil {
					return err
				}
			}
			fmt.Fprintf(a.err, "The pages are in %s; man stilltide shows the first if it is on the manual's "+
				"path.\n", display(args[0]))
			return nil
		},
	}
}
