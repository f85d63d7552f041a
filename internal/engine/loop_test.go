package engine

import (
	"context"
	"errors"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"stilltide/internal/core/turn"
	"stilltide/internal/ledger"
	"stilltide/internal/placing"
	"stilltide/internal/watchfs"
	"stilltide/internal/work"
)

// lagging is a ledger that is so many rows behind.
type lagging struct {
	*ledger.Stepped
	rows int
}

func (l lagging) Behind() int { return l.rows }

// What is found waits before what happens does, and sooner. While the ledger is behind the loop
// looks again in a moment, unless it cannot be written: then it is told when it can.
func TestWhatWaitsInABurst(t *testing.T) {
	w, err := watchfs.New(watchfs.Options{Once: true, Apart: true})
	require.NoError(t, err)
	defer w.Close()
	for _, c := range []struct {
		what          string
		placings      int
		rows          int
		asked         int // files that are looked at beside the flow
		fails         error
		events, found bool
		soon          bool
	}{
		{"nothing waits", 0, 0, 0, nil, true, true, false},
		{"some moves", placing.MaxFound, 0, 0, nil, true, false, true},
		{"many moves", placing.MaxWaiting, 0, 0, nil, false, false, true},
		{"the ledger is behind", 0, maxBehind + 1, 0, nil, true, false, true},
		{"it cannot be written", 0, maxBehind + 1, 0, errors.New("no space"), true, false, false},
		{"some answers", 0, 0, maxAt, nil, true, true, false},
		{"many answers", 0, 0, maxAt + 1, nil, true, false, false},
	} {
		share := newSlowShare(t, "  - {name: move, watch: in, debounce: 0s, processed: done}\n")
		for i := range c.asked {
			bring(share.Flow, watchfs.Event{Kind: watchfs.Found, Path: share.path(fmt.Sprint("f", i))}, share.now)
		}
		share.pass(time.Second)
		e := &Engine{events: w, ledger: lagging{newStore(t), c.rows}, flow: share.Flow}
		e.desk = placing.New(e.ledger, t.TempDir(), nil, &work.InHand{})
		e.desk.Add([]*turn.Placing{{}}) // without a move
		e.desk.Now(context.Background(), func([]turn.PlacingEnd) {})
		for range c.placings {
			e.desk.Add([]*turn.Placing{{}})
		}
		e.health.err = c.fails
		events, found, wait := e.open(time.Hour, time.Now())
		require.Equal(t, c.events, events != nil, c.what)
		require.Equal(t, c.found, found != nil, c.what)
		require.Equal(t, c.soon, wait < time.Hour, c.what)
	}
}
