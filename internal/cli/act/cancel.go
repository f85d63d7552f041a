package act

import (
	"fmt"

	"github.com/spf13/cobra"

	"stilltide/internal/byhand"
	"stilltide/internal/cli/console"
	"stilltide/internal/control"
	"stilltide/internal/ink"
	"stilltide/internal/jsonlines"
)

func (a *app) cancelCommand() *cobra.Command {
	return a.JSONFlag(&cobra.Command{
		Use: "cancel ID " +
			"…", Short: "Cancel jobs: take them out of the queue, or stop them; inputs stay where they are",
		Args: cobra.MinimumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error { return a.cancel(args) },
	})
}

func (a *app) cancel(args []string) error {
	f, _, err := a.ReadRules()
	if err != nil {
		return err
	}
	ids, err := console.JobNumbers(args)
	if err != nil {
		return err
	}
	sent, err := console.ViaWatcher(f, ids, (*control.Client).Cancel, byhand.Cancel)
	if err != nil {
		return err
	}
	return a.printSent(sent)
}

// printSent reports what became of each job.
func (a *app) printSent(sent []byhand.Sent) error {
	missed := false
	for _, s := range sent {
		missed = missed || !s.Done
		if a.JSON {
			if err := a.PrintJSON(jsonlines.Sent(s)); err != nil {
				return err
			}
			continue
		}
		text := fmt.Sprintf("job %d: %s", s.ID, ink.Clean(s.Reason))
		if !s.Done {
			text = a.Style.Bad("not done") + ", " + text
		}
		fmt.Fprintln(a.Out, text)
	}
	if missed {
		return &console.ExitError{Status: console.ExitFound}
	}
	return nil
}
