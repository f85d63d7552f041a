package byhand

import (
	"errors"
	"maps"
	"slices"
	"time"

	"stilltide/internal/core/job"
	"stilltide/internal/core/rule"
)

// Accepting is how long it holds that somebody has resumed a rule while nothing ran.
const Accepting = 24 * time.Hour

// Pause records that rules rest until a time, zero for until they are resumed. Without a name it
// is all that the rules file has.
func Pause(f *rule.File, names []string, until time.Time) error {
	l, err := Open(f, func(error) {})
	if err != nil {
		return err
	}
	if len(names) == 0 {
		names = []string{""}
	}
	for _, name := range names {
		l.RecordPause(name, true, until)
	}
	return l.Close()
}

// Resume records that rules go on; without a name it is all that rests. A rule that did not rest was
// perhaps blocked: what would block it is accepted by the next start, for as long as Accepting.
// accepted reports whether there is such a rule; where nothing rests, and none is named, it is all.
func Resume(f *rule.File, names []string) (accepted bool, err error) {
	l, err := Open(f, func(error) {})
	if err != nil {
		return false, err
	}
	paused, err := l.Paused()
	if err != nil {
		return false, errors.Join(err, l.Close())
	}
	if len(names) == 0 && len(paused) == 0 {
		names = []string{""}
	} else if len(names) == 0 {
		names = slices.Collect(maps.Keys(paused))
	}
	for _, name := range names {
		var until time.Time
		if _, rests := paused.Rule(name); !rests && !job.IsFolder(name) {
			until, accepted = time.Now().Add(Accepting), true
		}
		l.RecordPause(name, false, until)
	}
	return accepted, l.Close()
}
