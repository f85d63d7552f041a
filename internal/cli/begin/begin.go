// Package begin holds the commands for somebody who begins: a first rules file, the recipes,
// the example, and a rule given on the command line.
package begin

import (
	"github.com/spf13/cobra"

	"stilltide/internal/cli/console"
)

// app is what these commands have: what all commands share, and a way to run another command.
type app struct {
	*console.App
	run func(args ...string) error // runs another command, as if it were given on the command line
}

// Commands are the commands of this room, in the order in which help lists them. run runs
// another command, as if it were given on the command line.
func Commands(a *console.App, run func(args ...string) error) []*cobra.Command {
	own := &app{a, run}
	return []*cobra.Command{own.initCommand(), own.recipesCommand(), own.demoCommand(), own.quickCommand()}
}
