package naming

import (
	"crypto/sha256"
	"encoding/hex"
	"path/filepath"
	"unicode/utf8"

	"stilltide/internal/core/plan"
)

// longestNumber is room for the number of a name.
const longestNumber = len("-1234567")

// cut shortens a text to so many bytes, between two characters.
func cut(text string, most int) string {
	if len(text) <= most {
		return text
	}
	for most = max(most, 0); most > 0 && !utf8.RuneStart(text[most]); most-- {
	}
	return text[:most]
}

// Fitting shortens a name before its extension, if need be, so that a number and an ending of so many bytes can
// be added to it.
func Fitting(name string, ending int) string {
	most := plan.MaxName - longestNumber - ending
	if len(name) <= most {
		return name
	}
	stem, ext := splitEnding(name)
	if len(ext) > most/2 {
		stem, ext = name, ""
	}
	return cut(stem, most-len(ext)) + ext
}

// NoteOf returns the path of the failure note of a file. One whose name would be too long is cut, and some digits of
// its checksum keep it apart from others that begin alike.
func NoteOf(path string) string {
	folder, name := filepath.Split(path)
	if len(name)+len(plan.NoteEnding) > plan.MaxName {
		sum := sha256.Sum256([]byte(name))
		digits := "-" + hex.EncodeToString(sum[:4])
		name = cut(name, plan.MaxName-len(digits)-len(plan.NoteEnding)) + digits
	}
	return folder + name + plan.NoteEnding
}
