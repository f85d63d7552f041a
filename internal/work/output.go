package work

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"time"
)

const (
	maxOutput  = 10 << 20 // bytes that a job may have on disk
	keptOutput = 1 << 20  // bytes that are kept of one that prints more
)

// OutputLook is the time between two looks at an output file.
const OutputLook = time.Second

// Bound keeps an output file from filling the disk. The zero value is ready.
type Bound struct {
	dropped int64 // bytes that were not kept
	head    int64 // bytes of the line that says so, at the file's beginning
}

// Watch looks at a growing output file now and each second until the attempt ends.
func (b *Bound) Watch(over <-chan struct{}, path string) {
	tick := time.NewTicker(OutputLook)
	defer tick.Stop()
	for {
		b.Look(path)
		select {
		case <-over:
			return
		case <-tick.C:
		}
	}
}

// Look looks once, and cuts the file if it has grown too long.
func (b *Bound) Look(path string) {
	if info, err := os.Stat(path); err == nil && info.Size() > maxOutput {
		_ = b.Cut(path) // the next look tries again
	}
}

// Cut keeps the last whole lines of an output file, and writes before them how many bytes are
// missing, those of earlier cuts included. The command writes on with O_APPEND meanwhile; what
// it writes in the instant before the cut may be lost uncounted.
func (b *Bound) Cut(path string) error {
	f, err := os.OpenFile(path, os.O_RDWR|os.O_APPEND, 0)
	if err != nil {
		return err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return err
	}
	from := max(info.Size()-keptOutput, b.head)
	tail, err := io.ReadAll(io.NewSectionReader(f, from, info.Size()-from+keptOutput)) // and what has come since
	if err != nil {
		return err
	}
	if from > b.head {
		part := bytes.IndexByte(tail, '\n') + 1
		from, tail = from+int64(part), tail[part:]
	}
	if err := f.Truncate(0); err != nil {
		return err
	}
	b.dropped += from - b.head
	head := fmt.Sprintf("--- %d bytes before this were not kept\n", b.dropped)
	b.head = int64(len(head))
	_, err = f.Write(append([]byte(head), tail...))
	return err
}
