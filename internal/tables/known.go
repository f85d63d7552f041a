package tables

import (
	"fmt"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
)

// KnownColumns are what every reader of a known file wants.
const KnownColumns = `size, mtime, dev, ino, job`

// KnownScan takes KnownColumns, and whether it is a folder where that is asked for.
type KnownScan struct {
	size, mtime, dev, ino, job whole
	Dir                        bool
}

// Into is where the columns go, in their order.
func (s *KnownScan) Into() []any { return []any{&s.size, &s.mtime, &s.dev, &s.ino, &s.job} }

// Known is what a rule remembers of a file. The hash of its content is left out.
func (s *KnownScan) Known(rule, path string) job.Known {
	facts := file.Facts{Exists: true, Dir: s.Dir, Regular: !s.Dir, Size: int64(s.size), Mod: file.Time(s.mtime),
		Dev: uint64(s.dev), Ino: uint64(s.ino)}
	return job.Known{Rule: rule, File: path, Facts: facts, Job: int64(s.job)}
}

// whole is an integer of a table. database/sql finds out anew for each value what an int64 takes;
// where 200,000 rows are read, that costs more than reading them.
type whole int64

// Scan takes a value of the driver (sql.Scanner).
func (w *whole) Scan(value any) error {
	n, is := value.(int64)
	if !is {
		return fmt.Errorf("%v is not a whole number", value)
	}
	*w = whole(n)
	return nil
}
