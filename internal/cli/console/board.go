package console

import (
	"io"
	"os"
	"sync"

	"golang.org/x/term"
)

// board keeps one line at the bottom of a terminal, below what scrolls by.
// The zero value prints without one.
type board struct {
	mu     sync.Mutex
	Term   io.Writer // nil if there is no terminal
	status string    // what stands there now

	out       io.Writer // standard output, if what is printed goes through outlets
	outs, ers *outlet   // that of standard output, and that of all else
}

// through has all that is printed from now on go through two outlets, which may be one.
func (b *board) through(out io.Writer, outs, ers *outlet) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.out, b.outs, b.ers = out, outs, ers
}

// outlet is the outlet of a stream, nil for none.
func (b *board) outlet(w io.Writer) *outlet {
	if w == b.out {
		return b.outs
	}
	return b.ers
}

// write prints a text to a stream.
func (b *board) write(w io.Writer, text string) {
	if o := b.outlet(w); o != nil {
		o.put(w, text)
		return
	}
	_, _ = io.WriteString(w, text) // who cannot be told anything cannot be told that
}

// Print writes text to w, above the line at the bottom.
func (b *board) Print(w io.Writer, text string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.status == "" {
		b.write(w, text)
		return
	}
	b.write(b.Term, "\r\x1b[K")
	b.write(w, text)
	b.write(b.Term, b.status)
}

// Show replaces the line at the bottom; an empty one removes it. A terminal that has not taken
// yet what came before keeps its line.
func (b *board) Show(status string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.Term == nil || status == b.status {
		return
	}
	if o := b.outlet(b.Term); o != nil && status != "" && !o.idle() {
		return
	}
	b.write(b.Term, "\r\x1b[K"+status)
	b.status = status
}

// Terminal returns the terminal that w is, nil if it is none.
func Terminal(w io.Writer) io.Writer {
	if f, ok := w.(*os.File); ok && term.IsTerminal(int(f.Fd())) && os.Getenv("TERM") != "dumb" {
		return f
	}
	return nil
}
