// Package atwork holds the commands that work: the watcher, a sweep, the service, and the help
// that one machine lends another. It prints what the engine reports, line by line.
package atwork

import (
	"github.com/spf13/cobra"

	"stilltide/internal/cli/console"
)

// app is what these commands have: what all commands share.
type app struct {
	*console.App
	trust  bool // --trust-rules
	beside bool // --beside
}

// Commands are the commands of this room, in the order in which help lists them.
func Commands(a *console.App) []*cobra.Command {
	own := &app{App: a}
	return []*cobra.Command{own.watchCommand(), own.sweepCommand(), own.serviceCommand(), own.fleetCommand()}
}
