package place

import (
	"crypto/sha256"
	"encoding/base32"
	"strconv"

	"stilltide/internal/core/plan"
)

var partLetters = base32.NewEncoding("abcdefghijklmnopqrstuvwxyz234567")

// PartName returns the hidden name of a file on its way from source: short, never taken by any
// rule, and the same each time. Two files of one job have two: what is hidden under one of them
// may be all that there is of its file.
func PartName(ledger string, job int64, source string) string {
	of := append(strconv.AppendInt(append([]byte(ledger), 0), job, 10), 0)
	sum := sha256.Sum256(append(of, source...))
	name := append(make([]byte, 0, 32), plan.HiddenPrefix...)
	return string(partLetters.AppendEncode(name, sum[:5]))
}
