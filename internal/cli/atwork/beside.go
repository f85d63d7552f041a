package atwork

import (
	"cmp"
	"fmt"
	"os"
	"time"

	"stilltide/internal/cli/console"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/presence"
	"stilltide/internal/watchfs"
)

// shareAnswers is how long a shared folder may take to say whether it is watched already.
const shareAnswers = 3 * time.Second

// claimShares says in each shared folder that this watcher works on it, until release. It fails
// if another machine's watcher does, unless that is wanted.
func (a *app) claimShares(f *rule.File, beside bool) (release func(), err error) {
	var claims []*presence.Claim
	release = func() {
		for _, c := range claims {
			c.Release()
		}
	}
	machine, _ := os.Hostname() // without a name its folder tells it from others
	own := presence.Note{Machine: machine, PID: os.Getpid(), Since: time.Now(), State: f.StateFolder()}
	seen := map[string]bool{}
	for _, r := range f.All() {
		for _, folder := range r.Folders {
			if seen[folder] || !r.Enabled {
				continue
			}
			seen[folder] = true
			c, other := a.claimShare(folder, own, beside)
			if c != nil {
				claims = append(claims, c)
			}
			if other != nil && !beside {
				release()
				return nil, &console.ExitError{Status: console.ExitBusy,
					Text: fmt.Sprintf("%s is watched by %s since %s (process %d there); two "+
						"watchers would both take its files: end one, or use --beside", a.Shown(folder),
						cmp.Or(other.Machine, "another machine"), plan.Clock(other.Since, time.Now()), other.PID)}
			}
		}
	}
	return release, nil
}

// claimShare is for one folder. One that does not answer is not claimed.
func (a *app) claimShare(folder string, own presence.Note, beside bool) (*presence.Claim, *presence.Note) {
	type answer struct {
		claim *presence.Claim
		other *presence.Note
		err   error
	}
	answers := make(chan answer, 1)
	go func() { // ends when the folder answers
		if !watchfs.Remote(folder) {
			answers <- answer{}
			return
		}
		c, other, err := presence.Take(folder, own, beside)
		answers <- answer{c, other, err}
	}()
	select {
	case got := <-answers:
		if got.err != nil {
			a.Warn("whether %s is watched by another machine cannot be told: %v", a.Shown(folder), got.err)
		}
		return got.claim, got.other
	case <-time.After(shareAnswers):
		return nil, nil
	}
}
