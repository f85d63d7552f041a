package cli

import (
	"encoding/json"

	"github.com/spf13/cobra"

	"stilltide/internal/core/rule"
)

func (a *app) schemaCommand() *cobra.Command {
	return &cobra.Command{
		Use: "schema", Short: "Print the JSON Schema of the rules file, for editors",
		RunE: func(*cobra.Command, []string) error {
			e := json.NewEncoder(a.out)
			e.SetIndent("", "  ")
			e.SetEscapeHTML(false)
			return e.Encode(rule.Schema())
		},
	}
}
