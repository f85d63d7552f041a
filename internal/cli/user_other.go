//go:build !unix

package cli

// becomeUser is for systems where a program can change who it runs as.
func becomeUser(name, _ string) error {
	if name != "" {
		return usage("--user is not possible on this system")
	}
	return nil
}
