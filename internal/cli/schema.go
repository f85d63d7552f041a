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
			if of != "" {
				return a.printSchemaOf(of)
			}
			e := json.NewEncoder(a.Out)
			e.SetIndent("", "  ")
			e.SetEscapeHTML(false)
			return e.Encode(schema.Rules())
		},
	}
	c.Flags().StringVar(&of, "of", "", "the schema of what this `COMMAND` prints with --json")
	return c
}

func (a *app) printSchemaOf(command string) error {
	c, known := jsonlines.Of(command)
	if !known {
		return console.Usage("no command %q has --json%s", command, console.DidYouMean(command, withJSON()))
	}
	text, err := c.Schema()
	if err != nil {
		return err
	}
	_, err = a.Out.Write(text)
	return err
}

// withJSON names the commands that have --json.
func withJSON() (names []string) {
	for _, c := range jsonlines.Commands {
		names = append(names, c.Name)
	}
	return names
}
