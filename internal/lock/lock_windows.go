package lock

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"golang.org/x/sys/windows"
)

// Acquire takes the lock of a state folder. An error that wraps ErrBusy says that another program has it.
func Acquire(folder string) (*Lock, error) { return acquire(filepath.Join(folder, FileName)) }

func acquire(path string) (*Lock, error) {
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
	return &Lock{f}, nil
}

func exclusive(f *os.File) error {
	return windows.LockFileEx(windows.Handle(f.Fd()),
		windows.LOCKFILE_EXCLUSIVE_LOCK|windows.LOCKFILE_FAIL_IMMEDIATELY, 0, 1, 0, &windows.Overlapped{})
}

// Check has nothing to do: an open file cannot be removed on this system.
func (l *Lock) Check() error { return nil }

// InUse reports whether somebody holds the lock of a state folder.
func InUse(folder string) bool {
	f, err := os.OpenFile(filepath.Join(folder, FileName), os.O_RDWR, 0)
	if err != nil {
		return false
	}
	defer f.Close()
	return errors.Is(exclusive(f), windows.ERROR_LOCK_VIOLATION)
}
