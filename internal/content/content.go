// Package content reads what is inside a file: its media type, the time at which a picture or a film
// was taken, its tags, its hash. That takes the time of a disk, so it is read only where a rule
// asks for it, and beside the loop that decides.
package content

import (
	"mime"
	"path/filepath"
	"strings"

	"github.com/gabriel-vasile/mimetype"
)

// MediaType returns a file's media type (RFC 6838) by its content; where that says
// no more than text or bytes, by its name. "" if neither says anything.
func MediaType(path string) string { return MediaTypeAs(path, path) }

// MediaTypeAs is MediaType for a file that has another name by now.
func MediaTypeAs(path, name string) string {
	byName := MediaTypeOfName(name)
	found, err := mimetype.DetectFile(path)
	if err != nil {
		return byName
	}
	kind, _, _ := strings.Cut(found.String(), ";")
	if (kind == "text/plain" || kind == "application/octet-stream") && byName != "" {
		return byName
	}
	return kind
}

// MediaTypeOfName returns a media type by a name's ending alone.
func MediaTypeOfName(path string) string {
	kind, _, _ := strings.Cut(mime.TypeByExtension(strings.ToLower(filepath.Ext(path))), ";")
	return kind
}
