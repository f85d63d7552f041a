package ledger

import (
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
	return s.w.Set(`query_only = ` + value)
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
	err := errors.Join(s.w.Abandon(), s.db.Close())
	for name, text := range files { // closing has brought the log into the tables
		err = errors.Join(err, os.WriteFile(name, text, 0o600))
	}
	if gone := os.Remove(path + "-shm"); gone != nil && !errors.Is(gone, os.ErrNotExist) {
		err = errors.Join(err, gone)
	}
	s.lock.Release()
	return err
}
