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
}

// Print writes text to w, above the line at the bottom.
func (b *board) Print(w io.Writer, text string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.status == "" {
		io.WriteString(w, text)
		return
	}
	io.WriteString(b.Term, "\r\x1b[K")
	io.WriteString(w, text)
	io.WriteString(b.Term, b.status)
}

// Show replaces the line at the bottom; an empty one removes it.
func (b *board) Show(status string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.Term == nil || status == b.status {
		return
	}
	io.WriteString(b.Term, "\r\x1b[K"+status)
	b.status = status
}

// Terminal returns the terminal that w is, nil if it is none.
func Terminal(w io.Writer) io.Writer {
	if f, ok := w.(*os.File); ok && term.IsTerminal(int(f.Fd())) && os.Getenv("TERM") != "dumb" {
		return f
	}
	return nil
}
