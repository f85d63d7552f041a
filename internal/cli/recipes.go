package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"stilltide/internal/ink"
	"stilltide/internal/jsonlines"
	"stilltide/internal/recipes"
)

func (a *app) recipesCommand() *cobra.Command {
	c := a.jsonFlag(&cobra.Command{
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
				fmt.Fprint(a.out, r.File())
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
		if a.json {
			if err := a.printJSON(jsonlines.Recipe{Name: r.Name, Need: r.Need, Text: r.Title}); err != nil {
				return err
			}
			continue
		}
		if r.Need != need {
			if need != "" {
				fmt.Fprintln(a.out)
			}
			need = r.Need
			fmt.Fprintln(a.out, a.style.Bold(need))
		}
		line := fmt.Sprintf("  %-*s  %s", width, r.Name, r.Title)
		fmt.Fprintln(a.out, ink.Cut(line, a.width(a.out)))
	}
	if !a.json {
		fmt.Fprintln(a.err, "\nstilltide recipes show NAME prints one; stilltide init --recipe NAME begins with it.")
	}
	return nil
}

// recipeNamed finds a recipe, or says which is meant.
func recipeNamed(name string) (recipes.Recipe, error) {
	r, ok := recipes.Named(name)
	if !ok {
		return r, usage("there is no recipe %q%s; stilltide recipes lists them", name,
			strings.TrimSuffix(didYouMean(name, recipes.Names()), "?"))
	}
	return r, nil
}
