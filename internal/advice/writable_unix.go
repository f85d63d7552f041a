//go:build unix

package advice

import "golang.org/x/sys/unix"

// writable asks the system whether this user may make files in a folder (access(2)).
func writable(folder string) bool { return unix.Access(folder, unix.W_OK|unix.X_OK) == nil }
