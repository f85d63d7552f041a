package cli

import (
	"encoding/json"
	"strings"

	"github.com/spf13/cobra"

	"stilltide/internal/cli/console"
	"stilltide/internal/core/schema"
	"stilltide/internal/jsonlines"
)

func (a *app) schemaCommand() *cobra.Command {
	var of string
	c := &cobra.Command{
		Use: "schema", Short: "Print the JSON Schema of the rules file, or of what a command prints with --json",
		Long: `Prints the JSON Schema (2020-12) of the rules file, for editors. With --of it is that of one
line of a command's JSON: ` + strings.Join(withJSON(), ", ") + `.`,
		RunE: func(*cobra.Command, []string) error {
			var text any = schema.Rules()
			if of != "" {
				c, known := jsonlines.Of(of)
				if !known {
					return console.Usage("no command %q has --json%s", of, console.DidYouMean(of, withJSON()))
				}
				var err error
				if text, err = c.Schema(); err != nil {
					return err
				}
			}
			e := json.NewEncoder(a.Out)
			e.SetIndent("", "  ")
			e.SetEscapeHTML(false)
			return e.Encode(text)
		},
	}
	c.Flags().StringVar(&of, "of", "", "the schema of what this `COMMAND` prints with --json")
	return c
}

// withJSON names the commands that have --json.
func withJSON() (names []string) {
	for _, c := range jsonlines.Commands {
		names = append(names, c.Name)
	}
	return names
}
