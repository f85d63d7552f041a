//go:build unix

package lend

import (
	"errors"
	"os"

	"golang.org/x/sys/unix"
)

// takeFolder locks a helper's folder for as long as the program runs.
func takeFolder(lock string) (*os.File, error) {
	f, err := os.OpenFile(lock, os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, err
	}
	if err := unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
		f.Close()
		return nil, errors.New("another helper uses it: name another one with --folder")
	}
	return f, nil
}
