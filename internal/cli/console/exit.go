package console

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"syscall"
)

// Exit statuses.
const (
	ExitFound = 1 // it ran, and something failed or was found
	ExitUsage = 2 // wrong usage or rules
	ExitBusy  = 3 // another watcher holds this ledger
	// ExitUnread is that of a program which a shell has seen end of SIGPIPE: 128 and the signal's number.
	ExitUnread = 141
)

// IsUnread reports whether an error says no more than that the reader of standard output is gone, as head(1) is when it
// has its lines.
func IsUnread(err error) bool {
	var at *fs.PathError
	return errors.As(err, &at) && at.Path == os.Stdout.Name() && errors.Is(err, syscall.EPIPE)
}

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
