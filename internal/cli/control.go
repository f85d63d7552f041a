package cli

import (
	"errors"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"stilltide/internal/byhand"
	"stilltide/internal/control"
	"stilltide/internal/ink"
	"stilltide/internal/jsonlines"
	"stilltide/internal/ledger"
)

func (a *app) cancelCommand() *cobra.Command {
	return a.jsonFlag(&cobra.Command{
		Use: "cancel ID " +
			"…", Short: "Cancel jobs: take them out of the queue, or stop them; inputs stay where they are",
		Args: cobra.MinimumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error { return a.cancel(args) },
	})
}

func (a *app) cancel(args []string) error {
	f, _, err := a.readRules()
	if err != nil {
		return err
	}
	ids, err := jobNumbers(args)
	if err != nil {
		return err
	}
	sent, err := viaWatcher(f.StateFolder(), ids, (*control.Client).Cancel, byhand.Cancel)
	if err != nil {
		return err
	}
	return a.printSent(sent)
}

// viaWatcher asks the running watcher, or does it through the ledger.
func viaWatcher(state string, ids []int64, ask func(*control.Client, []int64) ([]byhand.Sent, error),
	offline func(*ledger.Ledger, int64) byhand.Sent) ([]byhand.Sent, error) {
	if len(ids) == 0 {
		return nil, nil
	}
	var sent []byhand.Sent
	err := whileTaken(func() (err error) {
		if sent, err = ask(control.Dial(state), ids); !errors.Is(err, control.ErrNobody) {
			return err
		}
		l, err := ledger.Open(state, func(error) {})
		if err != nil {
			return err
		}
		for _, id := range ids {
			sent = append(sent, offline(l, id))
		}
		return l.Close()
	})
	return sent, err
}

// takenFor is how long a ledger may be held by somebody who does not answer.
const takenFor = 5 * time.Second

// whileTaken does something again and again, for a while, as long as it fails because
// somebody holds the ledger: a command that is at work in it, or a watcher that starts or
// ends, and cannot be asked yet or any more.
func whileTaken(do func() error) error {
	for end := time.Now().Add(takenFor); ; time.Sleep(20 * time.Millisecond) {
		if err := do(); !errors.Is(err, ledger.ErrBusy) || time.Now().After(end) {
			return err
		}
	}
}

// printSent reports what became of each job.
func (a *app) printSent(sent []byhand.Sent) error {
	missed := false
	for _, s := range sent {
		missed = missed || !s.Done
		if a.json {
			if err := a.printJSON(jsonlines.Sent(s)); err != nil {
				return err
			}
			continue
		}
		text := fmt.Sprintf("job %d: %s", s.ID, ink.Clean(s.Reason))
		if !s.Done {
			text = a.style.Bad("not done") + ", " + text
		}
		fmt.Fprintln(a.out, text)
	}
	if missed {
		return &exitError{status: exitFound}
	}
	return nil
}
