package fleet

import (
	"context"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/nats-io/nats.go/jetstream"
	"github.com/stretchr/testify/require"

	"stilltide/internal/core/plan"
	"stilltide/internal/wire"
	"stilltide/internal/work"
)

var chaosSeed = flag.Uint64("chaos.seed", 0, "the seed of TestAnEngineThatLoses; 0 for one of the time")

// chaos is an engine, with all that may go wrong in it and in the helpers.
type chaos struct {
	*pair
	mu  sync.Mutex
	rnd *rand.Rand
	ran map[string]int // by input: how often its command was begun
}

func (c *chaos) one(of int) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.rnd.IntN(of) == 0
}

// help takes offers until the context ends, and does with each what a bad day brings: nothing,
// late, twice, damaged, or what it should.
func (c *chaos) help(ctx context.Context) {
	for ctx.Err() == nil {
		consumer, err := c.js.Consumer(ctx, wire.JobStream, wire.PoolConsumer("heavy"))
		if err != nil {
			continue
		}
		m, err := consumer.Next(jetstream.FetchMaxWait(50 * time.Millisecond))
		if err != nil {
			continue
		}
		o, err := wire.Open(m.Subject(), m.Headers(), m.Data(), []string{c.key})
		if err != nil {
			continue
		}
		if c.one(12) {
			continue // it is lost with its helper
		}
		text := string(o.Inputs.Items[0].Inline)
		c.mu.Lock()
		c.ran[text]++
		c.mu.Unlock()
		made := textItem("made", strings.ToUpper(text))
		r := wire.Result{Outputs: wire.Manifest{Items: []wire.Item{made}}}
		if c.one(10) {
			r.Outputs.Items[0].SHA = sumOfText("other")
		}
		answer := func() {
			_ = c.answer(o, r) // one of two is refused
			if !c.one(8) {
				_ = m.Ack()
			}
		}
		switch {
		case c.one(8):
			go func() { _ = wire.Pause(ctx, 300*time.Millisecond); answer() }() // out of its turn
		case c.one(8):
			answer()
			go func() { _ = wire.Pause(ctx, 200*time.Millisecond); answer() }()
		default:
			answer()
		}
	}
}

// lose takes away what the engine holds, a few times, until the context ends.
func (c *chaos) lose(ctx context.Context) {
	for n := 0; n < 6 && wire.Pause(ctx, 700*time.Millisecond) == nil; n++ {
		for _, name := range []string{wire.JobStream, wire.ResultStream, wire.FileStream} {
			if s, err := c.js.Stream(ctx, name); err == nil && c.one(6) {
				_ = s.Purge(ctx)
			}
			if c.one(20) {
				_ = c.js.DeleteStream(ctx, name)
			}
		}
		if c.one(6) {
			_ = c.js.DeleteConsumer(ctx, wire.JobStream, wire.PoolConsumer("heavy"))
		}
		if c.one(6) {
			_ = c.js.DeleteConsumer(ctx, wire.ResultStream, "ledger-"+c.f.ledger)
		}
	}
}

// Whatever the engine and the helpers lose, repeat, delay, damage and reorder, each command comes
// to one end, with what it should have made; in the end nothing is open.
func TestAnEngineThatLoses(t *testing.T) {
	t.Parallel()
	seed := *chaosSeed
	if seed == 0 {
		seed = uint64(time.Now().UnixNano())
	}
	t.Logf("-chaos.seed=%d", seed)
	c := &chaos{pair: newPair(t), rnd: rand.New(rand.NewPCG(seed, 1)), ran: map[string]int{}}
	ctx, end := context.WithCancel(t.Context())
	defer end()
	var helpers sync.WaitGroup
	for range 4 {
		helpers.Go(func() { c.help(ctx) })
	}
	helpers.Go(func() { c.lose(ctx) })
	const trips = 60
	var all sync.WaitGroup
	for n := range trips {
		all.Go(func() {
			dir := t.TempDir()
			in := filepath.Join(dir, "in")
			text := fmt.Sprint("content of ", n)
			require.NoError(t, os.WriteFile(in, []byte(text), 0o600))
			require.NoError(t, os.Mkdir(filepath.Join(dir, "scratch"), 0o700))
			trip := work.Trip{Pool: "heavy", Rule: "charts", Job: int64(n), Attempt: 1, Args: []string{"true"},
				Scratch: filepath.Join(dir, "scratch"), Inputs: []plan.Carried{{Here: in, There: "in/chart"}},
				Output: filepath.Join(dir, "printed")}
			res, _ := c.f.Carry(t.Context(), trip)
			if res.Err != nil { // damaged five times in a row
				require.ErrorContains(t, res.Err, "damaged again and again")
			} else {
				made, err := os.ReadFile(filepath.Join(dir, "scratch/made"))
				require.NoError(t, err)
				require.Equal(t, strings.ToUpper(text), string(made))
			}
			c.f.Over(int64(n))
		})
	}
	all.Wait()
	end()
	helpers.Wait()
	require.Empty(t, c.book.open)
	again := 0
	for _, n := range c.ran {
		again += n - 1
	}
	t.Logf("%d of %d commands began again", again, trips)
}
