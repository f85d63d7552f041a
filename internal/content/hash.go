package content

import (
	"crypto/sha256"
	"encoding/hex"
	"io"
	"sync"

	"stilltide/internal/watchfs"
)

// blocks are what Hash reads into.
var blocks = sync.Pool{New: func() any { return new([64 << 10]byte) }}

// Hash returns the SHA-256 of a file's content (FIPS 180-4), hexadecimal. size is
// its size as far as that is known: one read tells of a small file's end, too.
// root is the watched folder that the file lies below, "" if it lies elsewhere.
func Hash(root, path string, size int64) (string, error) {
	f, err := watchfs.OpenPlain(root, path)
	if err != nil {
		return "", err
	}
	defer f.Close()
	block := blocks.Get().(*[64 << 10]byte)
	defer blocks.Put(block)
	h, all := sha256.New(), int64(0)
	for {
		n, err := f.Read(block[:])
		h.Write(block[:n])
		all += int64(n)
		if err == io.EOF || err == nil && all == size && n < len(block) {
			return hex.EncodeToString(h.Sum(nil)), nil
		}
		if err != nil {
			return "", err
		}
	}
}
