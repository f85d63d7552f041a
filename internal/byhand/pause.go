package byhand

import (
	"errors"
	"time"

	"stilltide/internal/ledger"
)

// Pause records that rules rest until a time, zero for until they are resumed, or that they go
// on. Without a name it is all that the rules file has; going on, it is all that rests.
func Pause(state string, names []string, paused bool, until time.Time) error {
	l, err := ledger.Open(state, func(error) {})
	if err != nil {
		return err
	}
	if len(names) == 0 && !paused { // everything that is paused
		all, err := l.Paused()
		if err != nil {
			return errors.Join(err, l.Close())
		}
		for name := range all {
			names = append(names, name)
		}
	} else if len(names) == 0 {
		names = []string{""}
	}
	for _, name := range names {
		l.RecordPause(name, paused, until)
	}
	return l.Close()
}
