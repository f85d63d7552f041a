package work

import (
	"context"
	"errors"
	"path/filepath"
	"time"

	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/runner"
)

// Carrier runs a command on another machine.
type Carrier interface {
	// Carry waits for the command's end. by names the machine. If the watcher ends meanwhile, the
	// command goes on, and the result says that it was left.
	Carry(ctx context.Context, t Trip) (res runner.Result, by string)
	// Shared are the folders that the other machines mount, with their paths there.
	Shared() map[string]string
}

// AwayRoot stands in a command's words for the folder that another machine makes for it.
const AwayRoot = "/stilltide-away-5c1f0e"

// Trip is a command that is to run on another machine. Paths in its words begin with AwayRoot.
type Trip struct {
	Pool, Rule    string
	Job           int64
	Attempt, Step int // Step is its number in the rule, from 0
	Args, Env     []string
	Secrets       []string // variables that it does not get, unless Env asks for them
	Stdin         string   // a path there, "" for none
	Timeout       time.Duration
	RunHere       bool // while no machine of the pool can run it, it is to be given back with ErrPoolAway
	Inputs        []plan.Carried
	Bring         []plan.Carried
	Texts         []TripText
	Scratch       string // the attempt's folder here, "" for none: what is in it goes along, and comes back
	Output        string // what it prints is added to this file
	Stdout        string // the file for its standard output, "" for Output
}

// ErrPoolAway says that no machine of a pool can run a command now: it has begun nowhere.
var ErrPoolAway = errors.New("no machine of the pool can be reached, so it runs here")

// TripText is a small file that is made there.
type TripText struct {
	Path string // below the root, with slashes
	Text string // AwayRoot in it stands for the root
	Mode uint32
}

// Brought lists the files of a rule that travel along with its commands: below work/, as
// below the folder of the rules file.
func Brought(r *rule.Rule) (list []plan.Carried, err error) {
	for _, p := range r.Bring {
		paths, err := filepath.Glob(p.Absolute())
		if err != nil {
			return nil, err
		}
		if len(paths) == 0 {
			return nil, NothingToBring{p.S}
		}
		for _, here := range paths {
			rel, err := filepath.Rel(p.Base, here)
			if err != nil {
				return nil, err
			}
			list = append(list, plan.Carried{Here: here, There: "work/" + filepath.ToSlash(rel)})
		}
	}
	return list, nil
}

// NothingToBring says that a file that is to travel along is not there.
type NothingToBring struct{ Path string }

// Error says what is not there.
func (e NothingToBring) Error() string { return "bring: " + plan.Display(e.Path) + " is not there" }
