// Package foresee holds the commands that say what would happen, and why, before anything does;
// and those that change the rules.
package foresee

import (
	"github.com/spf13/cobra"

	"stilltide/internal/cli/console"
)

// app is what these commands have: what all commands share.
type app struct{ *console.App }

// Commands are the commands of this room, in the order in which help lists them.
func Commands(a *console.App) []*cobra.Command {
	own := &app{a}
	return []*cobra.Command{own.checkCommand(), own.previewCommand(), own.whyCommand(),
		own.tryCommand(), own.rulesCommand(), own.tellCommand()}
}
