package place

import (
	"crypto/sha256"
	"encoding/base32"
	"strconv"

	"stilltide/internal/core/plan"
)

var partLetters = base32.NewEncoding("abcdefghijklmnopqrstuvwxyz234567")

// PartName returns the hidden name of a file on its way: short, never taken by
// any rule, and the same each time for the same job.
func PartName(ledger string, job int64) string {
	sum := sha256.Sum256(strconv.AppendInt(append([]byte(ledger), 0), job, 10))
	name := append(make([]byte, 0, 32), plan.HiddenPrefix...)
	return string(partLetters.AppendEncode(name, sum[:5]))
}
