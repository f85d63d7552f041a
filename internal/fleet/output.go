package fleet

import (
	"context"
	"io"
	"os"
	"path/filepath"
	"sync"

	"stilltide/internal/wire"
)

// output is a job's output file here, while a command prints elsewhere: behind what earlier
// steps have printed, it grows as pieces come, and is made whole at the end.
type output struct {
	mu      sync.Mutex
	path    string
	base    int64 // what it held before
	written int64 // of the command's
	over    bool  // no more pieces are taken
}

func newOutput(path string) *output {
	o := &output{path: path}
	if info, err := os.Stat(path); err == nil {
		o.base = info.Size()
	}
	return o
}

// more adds a piece, if nothing is missing before it.
func (o *output) more(offset int64, text []byte) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.over || offset > o.written || offset+int64(len(text)) <= o.written {
		return
	}
	f, err := os.OpenFile(o.path, os.O_WRONLY|os.O_CREATE, 0o600)
	if err != nil {
		return // the end brings all
	}
	defer f.Close()
	if n, err := f.WriteAt(text, o.base+offset); err == nil {
		o.written = offset + int64(n)
	}
}

func (o *output) end() {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.over = true
}

// whole brings all that the command printed.
func (o *output) whole(ctx context.Context, from *wire.Receiver, item wire.Item) error {
	o.end()
	if item.Size == 0 {
		return nil
	}
	part, err := os.CreateTemp(filepath.Dir(o.path), ".printed-*")
	if err != nil {
		return err
	}
	defer os.Remove(part.Name())
	defer part.Close()
	if err := from.Fill(ctx, part, item); err != nil {
		return err
	}
	if _, err := part.Seek(0, io.SeekStart); err != nil {
		return err
	}
	f, err := os.OpenFile(o.path, os.O_WRONLY|os.O_CREATE, 0o600)
	if err != nil {
		return err
	}
	defer f.Close()
	if _, err = f.Seek(o.base, io.SeekStart); err == nil {
		_, err = io.Copy(f, part)
	}
	if err == nil {
		err = f.Truncate(o.base + item.Size)
	}
	return err
}
