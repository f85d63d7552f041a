package held

import (
	"bytes"
	"errors"
	"io"
	"os"
)

// block is how long zeros have to be to become a hole: what most file systems give room by.
const block = 4096

var zeros [block]byte

// copySparse copies a file that takes less room than its size, and leaves a hole where a whole
// block is zero. It reads the zeros instead of asking where the holes are (lseek(2), SEEK_HOLE):
// what is not asked cannot be answered wrongly, and zeros are the same content either way.
func (o System) copySparse(in, out *os.File) (n int64, err error) {
	info, err := in.Stat()
	if err != nil {
		return 0, err
	}
	if clone(in, out) {
		info, err = out.Stat()
		if err != nil {
			return 0, err
		}
		return info.Size(), nil
	}
	buffer := make([]byte, min(info.Size()+1, stretch))
	for {
		if err := o.ended(); err != nil {
			return n, err
		}
		more, err := io.ReadFull(in, buffer)
		isEnd := errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF)
		if err != nil && !isEnd {
			return n, err
		}
		if err := writeData(out, buffer[:more], n); err != nil {
			return n, err
		}
		n += int64(more)
		if isEnd {
			return n, out.Truncate(n) // which makes the hole at the end
		}
	}
}

// writeData writes what is not zero, block by block, and begins to flush it.
func writeData(out *os.File, data []byte, at int64) error {
	for len(data) > 0 {
		hole := length(data, true)
		data, at = data[hole:], at+int64(hole)
		n := length(data, false)
		if n == 0 {
			continue
		}
		if _, err := out.WriteAt(data[:n], at); err != nil {
			return err
		}
		beginFlush(out, at, int64(n))
		data, at = data[n:], at+int64(n)
	}
	return nil
}

// length tells how many bytes at the beginning lie in blocks that are zero, or in blocks that are not.
func length(data []byte, zero bool) (n int) {
	for n < len(data) {
		one := data[n:min(n+block, len(data))]
		if bytes.Equal(one, zeros[:len(one)]) != zero {
			break
		}
		n += len(one)
	}
	return n
}
