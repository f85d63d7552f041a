//go:build !unix

package lend

import "os"

// takeFolder opens the file alone: there is no lock that ends with the program.
func takeFolder(lock string) (*os.File, error) {
	return os.OpenFile(lock, os.O_RDWR|os.O_CREATE, 0o600)
}
