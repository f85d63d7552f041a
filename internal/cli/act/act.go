// Package act holds the commands that act on jobs and rules: retry, undo, cancel, pause, resume
// and dismiss. A running watcher is asked; without one it is done in the ledger.
package act

import (
	"github.com/spf13/cobra"

	"stilltide/internal/cli/console"
)

// app is what these commands have: what all commands share.
type app struct{ *console.App }

// Commands are the commands of this room, in the order in which help lists them.
func Commands(a *console.App) []*cobra.Command {
	own := &app{a}
	return []*cobra.Command{own.retryCommand(), own.undoCommand(), own.cancelCommand(),
		own.pauseCommand(), own.resumeCommand(), own.dismissCommand()}
}
