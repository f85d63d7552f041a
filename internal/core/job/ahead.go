package job

import "sync/atomic"

// Ahead is a file that is to be placed before another.
type Ahead struct {
	Path   string
	Before string       // where it is until it gets there
	Done   *atomic.Bool // set when it has been placed, or will not be
}
