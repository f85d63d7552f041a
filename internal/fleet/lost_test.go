package fleet

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"stilltide/internal/wire"
)

// Each part of what the engine holds may go alone, also while a command is on its way: it is made again, the command
// comes to its end, and so does the next one.
func TestEachPartThatTheEngineLoses(t *testing.T) {
	t.Parallel()
	stream := func(name string) func(*pair) error {
		return func(p *pair) error { return p.js.DeleteStream(p.Context(), name) }
	}
	for name, lose := range map[string]func(p *pair) error{
		"offers": stream(wire.JobStream), "results": stream(wire.ResultStream), "files": stream(wire.FileStream),
		"who has offers": func(p *pair) error {
			return p.js.DeleteConsumer(p.Context(), wire.JobStream, wire.PoolConsumer("heavy"))
		},
		"who has results": func(p *pair) error {
			return p.js.DeleteConsumer(p.Context(), wire.ResultStream, "ledger-"+p.f.ledger)
		},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			p := newPair(t)
			_, o, ended := p.carry(p.trip("x"))
			require.NoError(t, lose(p))
			for range 2 {
				require.Eventually(t, func() bool { return p.answer(o, wire.Result{}) == nil }, time.Minute,
					10*time.Millisecond)
				select {
				case res := <-ended:
					require.NoError(t, res.Err)
				case <-time.After(time.Minute):
					require.Fail(t, "the result does not arrive")
				}
				p.f.Over(7)
				_, o, ended = p.carry(p.trip("y"))
			}
		})
	}
}
