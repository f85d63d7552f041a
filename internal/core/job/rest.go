package job

import "fmt"

// Rest is what could not be removed of a source that was copied.
type Rest struct {
	Path    string // where it is
	Entries int    // how many files and folders
	Why     error  // of the first
}

// String says in a sentence what is left.
func (r *Rest) String() string {
	what := "1 entry of its folder could not be removed and stays"
	if r.Entries != 1 {
		what = fmt.Sprintf("%d entries of its folder could not be removed and stay", r.Entries)
	}
	return fmt.Sprintf("%s in %s: %v", what, r.Path, r.Why)
}
