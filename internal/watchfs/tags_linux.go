package watchfs

import (
	"errors"
	"fmt"
	"strings"

	"golang.org/x/sys/unix"
)

// TagsAttribute holds a file's labels, comma-separated (freedesktop, Common
// Extended Attributes).
const TagsAttribute = "user.xdg.tags"

// Tags lists a file's labels.
func Tags(path string) []string {
	var tags []string
	for _, t := range strings.Split(ReadTags(path), ",") {
		if t = strings.TrimSpace(t); t != "" {
			tags = append(tags, t)
		}
	}
	return tags
}

// ReadTags gives the attribute as it is, "" if there is none.
func ReadTags(path string) string {
	value := make([]byte, 64<<10)
	n, err := unix.Lgetxattr(path, TagsAttribute, value)
	if err != nil || n <= 0 {
		return ""
	}
	return string(value[:n])
}

// WriteTags sets the attribute; "" removes it.
func WriteTags(path, tags string) error {
	var err error
	if tags == "" {
		if err = unix.Lremovexattr(path, TagsAttribute); errors.Is(err, unix.ENODATA) {
			err = nil
		}
	} else {
		err = unix.Lsetxattr(path, TagsAttribute, []byte(tags), 0)
	}
	if errors.Is(err, unix.ENOTSUP) {
		return fmt.Errorf("%s cannot get labels: its file system keeps no extended attributes", path)
	}
	if err != nil {
		return fmt.Errorf("%s cannot get labels: %w", path, err)
	}
	return nil
}
