package ledger

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"golang.org/x/sys/windows"
)

// lock is held by the process that writes the ledger. The system drops it when the
// process ends, however it ends.
type lock struct{ f *os.File }

func acquire(path string) (*lock, error) {
	f, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, fmt.Errorf("the state folder cannot be used: %w", err)
	}
	if err := exclusive(f); err != nil {
		f.Close()
		if errors.Is(err, windows.ERROR_LOCK_VIOLATION) {
			return nil, ErrBusy
		}
		return nil, fmt.Errorf("%s cannot be locked: %w", path, err)
	}
	return &lock{f}, nil
}

func exclusive(f *os.File) error {
	return windows.LockFileEx(windows.Handle(f.Fd()),
		windows.LOCKFILE_EXCLUSIVE_LOCK|windows.LOCKFILE_FAIL_IMMEDIATELY, 0, 1, 0, &windows.Overlapped{})
}

func (l *lock) release() { l.f.Close() }

// check has nothing to do: an open file cannot be removed on this system.
func (l *lock) check() error { return nil }

// InUse reports whether somebody holds the ledger in the folder.
func InUse(folder string) bool {
	f, err := os.OpenFile(filepath.Join(folder, "lock"), os.O_RDWR, 0)
	if err != nil {
		return false
	}
	defer f.Close()
	return errors.Is(exclusive(f), windows.ERROR_LOCK_VIOLATION)
}
