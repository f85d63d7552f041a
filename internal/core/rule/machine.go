package rule

import (
	"strings"

	"stilltide/internal/core/schedule"
)

// Source is a rules file to be read.
type Source struct {
	Path string
	Text []byte
}

// Load finds the files that `more_rules` names, in name order.
type Load func(glob string) ([]Source, error)

// Machine is what a rules file means on one machine.
type Machine struct {
	Home  string         // what ~ stands for; empty: itself
	Load  Load           // nil: no other files are read
	Zones schedule.Zones // nil: UTC alone is known
	CPUs  int            // how many it has, which is how many jobs run at once if nothing else is said
}

// AtHome puts the home folder in the place of a ~ that begins a path. One of another user, as in
// ~anna, stays as it is.
func AtHome(path, home string) string {
	rest, begins := strings.CutPrefix(path, "~")
	if !begins || home == "" || rest != "" && !strings.HasPrefix(rest, "/") {
		return path
	}
	return home + rest
}
