// Package lock is the lock of a state folder: one process at a time writes what is in it. The
// system drops it when the process ends, however it ends.
package lock

import (
	"errors"
	"os"
)

// ErrBusy says that another program holds the lock.
var ErrBusy = errors.New("another watcher holds this ledger")

// FileName is the lock's name in the state folder.
const FileName = "lock"

// Lock is one that is held. Use Acquire.
type Lock struct{ f *os.File }

// Release gives the lock back.
func (l *Lock) Release() { l.f.Close() }
