package place

import (
	"crypto/sha256"
	"encoding/base32"
	"strconv"
	"strings"

	"stilltide/internal/core/plan"
)

// Numbered gives the n-th choice of a name: stem.ext, stem-2.ext, stem-3.ext, …
// A failure note keeps its whole ending, by which it is known.
func Numbered(name string, n int) string {
	if n == 1 {
		return name
	}
	stem, ext := name, ""
	if note, ok := strings.CutSuffix(name, plan.NoteEnding); ok {
		stem, ext = note, plan.NoteEnding
	} else if i := strings.LastIndexByte(name, '.'); i > 0 {
		stem, ext = name[:i], name[i:]
	}
	return stem + "-" + strconv.Itoa(n) + ext
}

var partLetters = base32.NewEncoding("abcdefghijklmnopqrstuvwxyz234567")

// PartName gives the hidden name of a file on its way: short, never taken by
// any rule, and the same each time for the same job.
func PartName(ledger string, job int64) string {
	sum := sha256.Sum256(strconv.AppendInt(append([]byte(ledger), 0), job, 10))
	name := append(make([]byte, 0, 32), plan.HiddenPrefix...)
	return string(partLetters.AppendEncode(name, sum[:5]))
}
