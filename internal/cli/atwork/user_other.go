//go:build !unix

package atwork

import "stilltide/internal/cli/console"

// becomeUser is for systems where a program can change who it runs as.
func becomeUser(name, _ string) error {
	if name != "" {
		return console.Usage("--user is not possible on this system")
	}
	return nil
}
