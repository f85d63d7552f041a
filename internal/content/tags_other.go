//go:build !linux

package content

import (
	"fmt"
	"os"
)

// Tags lists a file's tags; this system keeps none where they can be read alike.
func Tags(string) []string { return nil }

// ReadTags returns the attribute as it is, "" if there is none.
func ReadTags(string) string { return "" }

// WriteTags fails: this system keeps no tags where they can be read alike.
func WriteTags(f *os.File, _ string) error {
	return fmt.Errorf("%s cannot be tagged: this system keeps them in another way", f.Name())
}
