//go:build unix

package lock

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"golang.org/x/sys/unix"
)

// Acquire takes the lock of a state folder. An error that wraps ErrBusy says that another program has it.
func Acquire(folder string) (*Lock, error) { return acquire(filepath.Join(folder, FileName)) }

func acquire(path string) (*Lock, error) {
	f, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, fmt.Errorf("the state folder cannot be used: %w", err)
	}
	if err := flock(f); err != nil {
		f.Close()
		if errors.Is(err, unix.EWOULDBLOCK) {
			return nil, ErrBusy
		}
		return nil, fmt.Errorf("%s cannot be locked: %w", path, err)
	}
	if err := f.Truncate(0); err == nil {
		fmt.Fprintf(f, "%d\n", os.Getpid())
	}
	return &Lock{f}, nil
}

// flock tries a few times: InUse holds the lock for an instant.
func flock(f *os.File) (err error) {
	for range 5 {
		if err = unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB); !errors.Is(err, unix.EWOULDBLOCK) {
			return err
		}
		time.Sleep(5 * time.Millisecond)
	}
	return err
}

// Check makes sure that this program still is the only one that writes. Where the lock
// file was removed, it is made anew, unless another program was quicker.
func (l *Lock) Check() error {
	var there, held unix.Stat_t
	if err := unix.Fstat(int(l.f.Fd()), &held); err != nil {
		return os.NewSyscallError("fstat", err)
	}
	if err := unix.Stat(l.f.Name(), &there); err == nil && there.Ino == held.Ino && there.Dev == held.Dev {
		return nil
	}
	again, err := acquire(l.f.Name())
	if err != nil {
		return fmt.Errorf("the lock file %s was removed or replaced, so that two programs could write: %w",
			l.f.Name(), err)
	}
	l.f.Close()
	l.f = again.f
	return nil
}

// InUse reports whether somebody holds the lock of a state folder.
func InUse(folder string) bool {
	f, err := os.OpenFile(filepath.Join(folder, FileName), os.O_RDWR, 0)
	if err != nil {
		return false
	}
	defer f.Close()
	return errors.Is(unix.Flock(int(f.Fd()), unix.LOCK_SH|unix.LOCK_NB), unix.EWOULDBLOCK)
}
