//go:build unix

package atwork

import (
	"fmt"
	"os"
	"os/user"
	"strconv"
	"syscall"

	"stilltide/internal/cli/console"
)

// becomeUser gives up root for another user, who gets the helper's folder.
func becomeUser(name, folder string) error {
	if name == "" {
		return nil
	}
	u, err := user.Lookup(name)
	if err != nil {
		return console.Usage("--user: there is no user %s", name)
	}
	uid, uidErr := strconv.Atoi(u.Uid)
	gid, gidErr := strconv.Atoi(u.Gid)
	if uidErr != nil || gidErr != nil {
		return console.Usage("--user: %s has no number", name)
	}
	if os.Getuid() == uid {
		return nil
	}
	if os.Getuid() != 0 {
		return console.Usage("--user: only root can become another user")
	}
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return fmt.Errorf("the helper's folder cannot be made: %w", err)
	}
	for _, change := range []func() error{
		func() error { return os.Chown(folder, uid, gid) },
		func() error { return syscall.Setgroups([]int{gid}) },
		func() error { return syscall.Setgid(gid) },
		func() error { return syscall.Setuid(uid) },
		func() error { return os.Setenv("HOME", u.HomeDir) },
	} {
		if err := change(); err != nil {
			return fmt.Errorf("this program cannot become %s: %w", name, err)
		}
	}
	return nil
}
