package job

import "errors"

var (
	// ErrGone says that the source is no longer there.
	ErrGone = errors.New("the file is no longer there")
	// ErrChanged says that the source is not the file that was meant.
	ErrChanged = errors.New("the file has changed meanwhile")
	// ErrHeld says that what is to be replaced is a file that another job works on.
	ErrHeld = errors.New("another job is working on the file of that name")
	// ErrTaken says that the name is there with other content (same_name: fail).
	ErrTaken = errors.New("that name is there already with other content")
	// ErrSkipped says the same where that is no failure (same_name: skip).
	ErrSkipped = errors.New("that name is there already with other content, so it was left out")
	// ErrStopped says that work on content was ended before it was complete.
	ErrStopped = errors.New("it was stopped before it was complete")
)
