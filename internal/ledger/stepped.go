package ledger

import (
	"context"
	"errors"
	"os"
	"path/filepath"
)

// Stepped is a ledger for simulations: the same tables, rows and commits, but nothing is written
// unless somebody waits for it, in the goroutine that waits. What happens to it is decided by
// whoever drives it, so that a simulation with the same seed meets the same.
type Stepped struct{ *Ledger }

// OpenStepped is Open for a simulation.
func OpenStepped(folder string) (*Stepped, error) {
	l, err := openAs(folder, func(error) {}, true)
	if err != nil {
		return nil, err
	}
	return &Stepped{l}, nil
}

// Refuse has each commit fail from now on, as on a full disk, or no longer.
func (s *Stepped) Refuse(refuse bool) error {
	value := "0"
	if refuse {
		value = "1"
	}
	_, err := s.w.conn.ExecContext(context.Background(), `PRAGMA query_only = `+value)
	return err
}

// Crash ends it as a power cut would: what no commit has written is lost, and the log ends in a
// torn piece of one.
func (s *Stepped) Crash(torn []byte) error {
	path := filepath.Join(s.folder, FileName)
	files := map[string][]byte{}
	for _, name := range []string{path, path + "-wal"} {
		text, err := os.ReadFile(name)
		if err != nil {
			return err
		}
		files[name] = text
	}
	files[path+"-wal"] = append(files[path+"-wal"], torn...)
	s.w.closeStatements()
	err := errors.Join(s.w.conn.Close(), s.db.Close())
	for name, text := range files { // closing has brought the log into the tables
		err = errors.Join(err, os.WriteFile(name, text, 0o600))
	}
	if gone := os.Remove(path + "-shm"); gone != nil && !errors.Is(gone, os.ErrNotExist) {
		err = errors.Join(err, gone)
	}
	s.lock.release()
	return err
}

// step does the work of the writing goroutine until no caller waits or a commit fails.
func (w *writer) step() error {
	for {
		c, _, _ := w.next()
		if c.empty() {
			w.tell(w.told())
			return nil
		}
		err := w.carryOut(&c)
		w.committed(&c, err)
		if err != nil {
			return err
		}
		w.tell(w.told())
		w.mu.Lock()
		waits := len(w.waiting) > 0
		w.mu.Unlock()
		if !waits {
			return nil
		}
	}
}

// stepFor steps for the caller that done belongs to. After a failed commit it does not wait any longer.
func (w *writer) stepFor(done chan error) error {
	err := w.step()
	select {
	case told := <-done:
		return told
	default:
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	w.waiting = nil
	return err
}
