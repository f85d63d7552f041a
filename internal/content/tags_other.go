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

// KeepsTags is false: this system keeps no tags where they can be read alike.
func KeepsTags(string) bool { return false }

// NoTags says so.
func NoTags(file string) error {
	return fmt.Errorf("%s cannot be tagged: this system keeps them in another way", file)
}

// WriteTags fails.
func WriteTags(f *os.File, _ string) error { return NoTags(f.Name()) }
