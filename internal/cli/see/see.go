// Package see holds the commands that show how it goes: the standing of the rules, the jobs, and
// the report.
package see

import (
	"github.com/spf13/cobra"

	"stilltide/internal/cli/console"
)

// app is what these commands have: what all commands share.
type app struct{ *console.App }

// Commands are the commands of this room, in the order in which help lists them.
func Commands(a *console.App) []*cobra.Command {
	own := &app{a}
	return []*cobra.Command{own.statusCommand(), own.jobsCommand(), own.reportCommand()}
}
