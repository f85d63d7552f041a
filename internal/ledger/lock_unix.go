//go:build unix

package ledger

import (
	"errors"
	"fmt"
	"os"
	"time"

	"golang.org/x/sys/unix"
)

// lock is held by the process that writes the ledger. The system drops it when the
// process ends, however it ends.
type lock struct{ f *os.File }

func acquire(path string) (*lock, error) {
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
	return &lock{f}, nil
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

func (l *lock) release() { l.f.Close() }

// check makes sure that this program still is the only one that writes. Where the lock
// file was removed, it is made anew, unless another program was quicker.
func (l *lock) check() error {
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

// InUse reports whether somebody holds the ledger in the folder.
func InUse(folder string) bool {
	f, err := os.OpenFile(folder+"/lock", os.O_RDWR, 0)
	if err != nil {
		return false
	}
	defer f.Close()
	return errors.Is(unix.Flock(int(f.Fd()), unix.LOCK_SH|unix.LOCK_NB), unix.EWOULDBLOCK)
}
