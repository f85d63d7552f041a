package work

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strings"
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

// travels reports whether a step's command runs on another machine.
func (w *Work) travels() bool { return w.Away && w.Carrier != nil && w.trial == nil }

// carry runs a step's command on another machine.
func (w *Work) carry(ctx context.Context, s *rule.Step, stdout string) (runner.Result, error) {
	there, carried := w.Job.Elsewhere(AwayRoot, w.Carrier.Shared())
	c, err := there.Command(s, AwayRoot)
	if err != nil {
		return runner.Result{}, err
	}
	bring, err := Brought(w.Job.Rule)
	if err != nil {
		return runner.Result{}, err
	}
	t := Trip{Pool: w.Job.Rule.Pool.S, Rule: w.Job.Rule.Name.S, Job: w.Job.ID, Attempt: w.Job.Attempt,
		Step: w.stepNumber(s), Args: c.Args, Env: c.Env, Secrets: w.Secrets, Stdin: c.Stdin, Timeout: w.limit(s),
		RunHere: w.Job.Rule.WhileAway == rule.AwayRunHere,
		Inputs:  carried, Bring: bring, Scratch: w.Job.Scratch, Output: w.Output, Stdout: stdout}
	if base := s.Base + string(filepath.Separator); strings.HasPrefix(c.Args[0], base) && s.Command != nil {
		t.Args[0] = AwayRoot + "/work/" + filepath.ToSlash(strings.TrimPrefix(c.Args[0], base))
	}
	if c.Script != nil {
		t.Texts = append(t.Texts, TripText{strings.TrimPrefix(c.Script.Path, AwayRoot+"/"), c.Script.Text, 0o700})
	}
	if there.Files != nil {
		t.Texts = append(t.Texts, TripText{"list.txt", strings.Join(there.Files, "\n") + "\n", 0o600},
			TripText{"list0.txt", strings.Join(there.Files, "\x00") + "\x00", 0o600})
	}
	res, by := w.Carrier.Carry(ctx, t)
	if w.by = by; by != "" {
		w.note("on " + by + afterOthers(res.Lost))
	}
	w.Behind = res.Behind
	return res, nil
}

// limit is how long a command may take elsewhere: a rule's bound on an attempt counts there, and
// not while it waits for a machine.
func (w *Work) limit(s *rule.Step) time.Duration {
	step, attempt := s.Timeout.Duration, w.Job.Rule.Timeout.Duration
	if step == 0 || attempt > 0 && attempt < step {
		return attempt
	}
	return step
}

// stepNumber is the place of a step in its rule, from 0.
func (w *Work) stepNumber(s *rule.Step) int {
	for i := range w.Job.Rule.Steps {
		if s == &w.Job.Rule.Steps[i] {
			return i
		}
	}
	return 0
}

// afterOthers says why a command was begun more than once.
func afterOthers(lost int) string {
	if lost == 0 {
		return ""
	}
	return fmt.Sprintf(" (begun %d times: a machine that had it before was lost, or gave it back)", lost+1)
}

// where says on which machine the command of a failed step ran.
func (w *Work) where() string {
	if w.by == "" {
		return ""
	}
	return fmt.Sprintf(" on %s", w.by)
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

func (e NothingToBring) Error() string { return "bring: " + plan.Display(e.Path) + " is not there" }
