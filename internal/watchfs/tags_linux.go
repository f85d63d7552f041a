package watchfs

import (
	"strings"

	"golang.org/x/sys/unix"
)

// TagsAttribute holds a file's labels, comma-separated (freedesktop, Common
// Extended Attributes).
const TagsAttribute = "user.xdg.tags"

// Tags lists a file's labels.
func Tags(path string) []string {
	value := make([]byte, 4096)
	n, err := unix.Lgetxattr(path, TagsAttribute, value)
	if err != nil || n <= 0 {
		return nil
	}
	var tags []string
	for _, t := range strings.Split(string(value[:n]), ",") {
		if t = strings.TrimSpace(t); t != "" {
			tags = append(tags, t)
		}
	}
	return tags
}
