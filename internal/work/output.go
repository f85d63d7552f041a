package work

import (
	"fmt"
	"io"
	"os"
	"time"
)

const (
	maxOutput  = 10 << 20 // bytes that a job may have on disk
	KeptOutput = 1 << 20  // bytes that are kept of one that prints more
)

// BoundOutput looks at a growing output file now and each second until the
// attempt ends, so that a job that prints without end does not fill the disk.
func BoundOutput(over <-chan struct{}, path string) {
	tick := time.NewTicker(OutputLook)
	defer tick.Stop()
	for {
		if info, err := os.Stat(path); err == nil && info.Size() > maxOutput {
			_ = CutOutput(path, info.Size()) // the next look tries again
		}
		select {
		case <-over:
			return
		case <-tick.C:
		}
	}
}

// CutOutput keeps the end of an output file. The command writes on with
// O_APPEND meanwhile; what it writes in this instant may be lost.
func CutOutput(path string, size int64) error {
	f, err := os.OpenFile(path, os.O_RDWR|os.O_APPEND, 0)
	if err != nil {
		return err
	}
	defer f.Close()
	tail := make([]byte, KeptOutput)
	n, err := f.ReadAt(tail, size-KeptOutput)
	if err != nil && err != io.EOF {
		return err
	}
	if err := f.Truncate(0); err != nil {
		return err
	}
	_, err = fmt.Fprintf(f, "--- %d bytes before this were not kept\n%s", size-KeptOutput, tail[:n])
	return err
}

// OutputLook is the time between two looks at an output file.
const OutputLook = time.Second
