package console

import "fmt"

// Exit statuses.
const (
	ExitFound = 1 // it ran, and something failed or was found
	ExitUsage = 2 // wrong usage or rules
	ExitBusy  = 3 // another watcher holds this ledger
)

// ExitError ends the program with a status. An empty message prints nothing.
type ExitError struct {
	Status int
	Text   string
}

// Error is what is printed.
func (e *ExitError) Error() string { return e.Text }

// Found ends the program with the status for a failure, or for something that was found.
func Found(text string) error { return &ExitError{ExitFound, text} }

// Usage ends the program with the status for wrong usage or wrong rules.
func Usage(format string, args ...any) error {
	return &ExitError{ExitUsage, fmt.Sprintf(format, args...)}
}
