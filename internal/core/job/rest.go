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
	return fmt.Sprintf("%s could not be removed and stays in %s: %v", counted(r.Entries), r.Path, r.Why)
}

func counted(n int) string {
	if n == 1 {
		return "1 entry of its folder"
	}
	return fmt.Sprintf("%d entries of its folder", n)
}
