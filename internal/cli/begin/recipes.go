package begin

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"stilltide/internal/cli/console"
	"stilltide/internal/ink"
	"stilltide/internal/jsonlines"
	"stilltide/internal/recipes"
)

func (a *app) recipesCommand() *cobra.Command {
	c := a.JSONFlag(&cobra.Command{
		Use: "recipes", Short: "Ready-made rules, by what they are for",
		Args: cobra.NoArgs,
		Long: `Lists ready-made rules. Each is a whole rules file that runs as it stands: recipes show NAME
prints one, init --recipe NAME begins with it.`,
		RunE: func(*cobra.Command, []string) error { return a.listRecipes() },
	})
	c.AddCommand(&cobra.Command{
		Use: "show NAME", Short: "Print a recipe: a rules file, with what it does above it",
		Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			r, err := recipeNamed(args[0])
			if err == nil {
				fmt.Fprint(a.Out, r.File())
			}
			return err
		},
	})
	return c
}

func (a *app) listRecipes() error {
	need, width := "", 0
	for _, name := range recipes.Names() {
		width = max(width, len(name))
	}
	for _, r := range recipes.All() {
		if a.JSON {
			if err := a.PrintJSON(jsonlines.Recipe{Name: r.Name, Need: r.Need, Text: r.Title}); err != nil {
				return err
			}
			continue
		}
		if r.Need != need {
			if need != "" {
				fmt.Fprintln(a.Out)
			}
			need = r.Need
			fmt.Fprintln(a.Out, a.Style.Bold(need))
		}
		line := fmt.Sprintf("  %-*s  %s", width, r.Name, r.Title)
		fmt.Fprintln(a.Out, ink.Cut(line, a.Width(a.Out)))
	}
	if !a.JSON {
		fmt.Fprintln(a.Err, "\nstilltide recipes show NAME prints one; stilltide init --recipe NAME begins with it.")
	}
	return nil
}

// recipeNamed finds a recipe, or says which is meant.
func recipeNamed(name string) (recipes.Recipe, error) {
	r, ok := recipes.Named(name)
	if !ok {
		return r, console.Usage("there is no recipe %q%s; stilltide recipes lists them", name,
			strings.TrimSuffix(console.DidYouMean(name, recipes.Names()), "?"))
	}
	return r, nil
}
