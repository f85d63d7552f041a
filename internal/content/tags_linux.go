package content

import (
	"errors"
	"fmt"
	"os"
	"strings"

	"golang.org/x/sys/unix"
)

// TagsAttribute holds a file's tags, comma-separated (freedesktop, Common
// Extended Attributes).
const TagsAttribute = "user.xdg.tags"

// Tags lists a file's tags.
func Tags(path string) []string {
	var tags []string
	for _, t := range strings.Split(ReadTags(path), ",") {
		if t = strings.TrimSpace(t); t != "" {
			tags = append(tags, t)
		}
	}
	return tags
}

// ReadTags returns the attribute as it is, "" if there is none.
func ReadTags(path string) string {
	value := make([]byte, 64<<10)
	n, err := unix.Lgetxattr(path, TagsAttribute, value)
	if err != nil || n <= 0 {
		return ""
	}
	return string(value[:n])
}

// KeepsTags reports whether the file system of a folder keeps tags.
func KeepsTags(folder string) bool {
	_, err := unix.Getxattr(folder, TagsAttribute, nil)
	return !errors.Is(err, unix.ENOTSUP)
}

// NoTags says that a file's system keeps none.
func NoTags(file string) error {
	return fmt.Errorf("%s cannot be tagged: its file system keeps no extended attributes", file)
}

// WriteTags sets the attribute of an open file; "" removes it.
func WriteTags(f *os.File, tags string) error {
	var err error
	if tags == "" {
		if err = unix.Fremovexattr(int(f.Fd()), TagsAttribute); errors.Is(err, unix.ENODATA) {
			err = nil
		}
	} else {
		err = unix.Fsetxattr(int(f.Fd()), TagsAttribute, []byte(tags), 0)
	}
	if errors.Is(err, unix.ENOTSUP) {
		return NoTags(f.Name())
	}
	if err != nil {
		return fmt.Errorf("%s cannot be tagged: %w", f.Name(), err)
	}
	return nil
}
