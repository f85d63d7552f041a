package cli

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"stilltide/internal/cli/console"
	"stilltide/internal/core/job"
	"stilltide/internal/core/rule"
	"stilltide/internal/recipes"
)

// What the shell offers comes from the rules file and the ledger as they are now. A word that
// cannot be found out is offered nothing: completion never complains.

// completer gives the words that may stand where the cursor is.
type completer = cobra.CompletionFunc

const plainWords = cobra.ShellCompDirectiveNoFileComp

// complete gives commands and flags their completions, by their paths.
func (a *app) complete(root *cobra.Command) {
	words := map[string]completer{
		"pause": a.several(a.ruleWords), "resume": a.several(a.ruleWords), "tell": first(a.channelWords),
		"retry": a.several(a.jobWords(job.Failed, job.Cancelled, job.Vanished, job.Reverted)),
		"cancel": a.several(a.jobWords(job.Held, job.Settling, job.Queued, job.Running,
			job.Retrying)),
		"undo":    a.several(a.jobWords(job.Processed, job.Failed, job.Skipped, job.Cancelled)),
		"dismiss": a.several(a.jobWords(job.Failed)), "jobs show": first(a.jobWords()),
		"jobs log": first(a.jobWords()), "rules": first(folders), "man": first(folders), "init": first(folders),
		"check": nothing, "status": nothing, "watch": nothing, "sweep": nothing, "schema": nothing,
		"version": nothing, "report": nothing, "demo": nothing, "service install": nothing, "service remove": nothing,
		"service show": nothing, "jobs": nothing, "recipes": nothing, "recipes show": first(recipeWords),
	}
	values := map[string]completer{
		"rule": a.ruleWords, "state": stateWords, "log-format": fixed(console.LogText, console.LogJSON),
		"of":     commandWords,
		"recipe": recipeWords, "since": fixed("1h", "12h", "24h", "7d", "30d"), "png": folders, "folder": folders,
		"config": files("yaml", "yml"), "to": files("html"),
	}
	each(root, func(c *cobra.Command) {
		_, path, _ := strings.Cut(c.CommandPath(), " ")
		c.ValidArgsFunction = words[path]
		for name, f := range values {
			if c.Flags().Lookup(name) != nil || c.PersistentFlags().Lookup(name) != nil {
				_ = c.RegisterFlagCompletionFunc(name, f) // it fails only for a flag that is not there
			}
		}
	})
}

// recipeWords are the names of the recipes, with what each is for.
func recipeWords(*cobra.Command, []string, string) (list []cobra.Completion, _ cobra.ShellCompDirective) {
	for _, r := range recipes.All() {
		list = append(list, cobra.CompletionWithDesc(r.Name, r.Title))
	}
	return list, plainWords
}

// each calls f for a command and all below it.
func each(c *cobra.Command, f func(*cobra.Command)) {
	f(c)
	for _, sub := range c.Commands() {
		each(sub, f)
	}
}

// first offers words for one argument, and nothing after it.
func first(f completer) completer {
	return func(c *cobra.Command, args []string, begun string) ([]cobra.Completion, cobra.ShellCompDirective) {
		if len(args) > 0 {
			return nil, plainWords
		}
		return f(c, args, begun)
	}
}

// several offers words for any number of arguments, each once.
func (a *app) several(f completer) completer {
	return func(c *cobra.Command, args []string, begun string) ([]cobra.Completion, cobra.ShellCompDirective) {
		list, how := f(c, args, begun)
		return slices.DeleteFunc(list, func(word string) bool {
			name, _, _ := strings.Cut(word, "\t")
			return slices.Contains(args, name)
		}), how
	}
}

func nothing(*cobra.Command, []string, string) ([]cobra.Completion, cobra.ShellCompDirective) {
	return nil, plainWords
}

func folders(*cobra.Command, []string, string) ([]cobra.Completion, cobra.ShellCompDirective) {
	return nil, cobra.ShellCompDirectiveFilterDirs
}

// files offers files with one of the endings.
func files(endings ...string) completer {
	return func(*cobra.Command, []string, string) ([]cobra.Completion, cobra.ShellCompDirective) {
		return endings, cobra.ShellCompDirectiveFilterFileExt
	}
}

func fixed(words ...string) completer { return cobra.FixedCompletions(words, plainWords) }

func stateWords(*cobra.Command, []string, string) ([]cobra.Completion, cobra.ShellCompDirective) {
	var list []cobra.Completion
	for _, s := range job.States {
		list = append(list, cobra.CompletionWithDesc(string(s), job.Meanings[s]))
	}
	return list, plainWords
}

func commandWords(*cobra.Command, []string, string) ([]cobra.Completion, cobra.ShellCompDirective) {
	return withJSON(), plainWords
}

func (a *app) ruleWords(*cobra.Command, []string, string) ([]cobra.Completion, cobra.ShellCompDirective) {
	f, _, err := a.ReadRules()
	if err != nil {
		return nil, plainWords
	}
	return console.RuleNames(f), plainWords
}

func (a *app) channelWords(*cobra.Command, []string, string) ([]cobra.Completion, cobra.ShellCompDirective) {
	f, _, err := a.ReadRules()
	if err != nil {
		return nil, plainWords
	}
	return append(slices.Sorted(maps.Keys(f.Channels)), rule.LogChannel), plainWords
}

// maxJobs is how many jobs are offered, the newest.
const maxJobs = 50

// jobWords offers the numbers of jobs in some states, or in any, each with its file.
func (a *app) jobWords(states ...job.State) completer {
	return func(*cobra.Command, []string, string) ([]cobra.Completion, cobra.ShellCompDirective) {
		_, l, err := a.LedgerFor()
		if err != nil || l == nil {
			return nil, plainWords
		}
		defer l.Close()
		jobs, err := l.Jobs(job.Filter{States: states, Limit: maxJobs, Shown: true})
		if err != nil {
			return nil, plainWords
		}
		var list []cobra.Completion
		for _, j := range jobs {
			list = append(list, cobra.CompletionWithDesc(fmt.Sprint(j.ID),
				fmt.Sprintf("%s, %s of %s", console.JobName(j), j.State, j.Rule)))
		}
		return list, plainWords | cobra.ShellCompDirectiveKeepOrder
	}
}
