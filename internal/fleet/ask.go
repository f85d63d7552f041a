package fleet

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"github.com/nats-io/nats.go"

	"stilltide/internal/core/rule"
	"stilltide/internal/wire"
)

// askFor is how long helpers have to answer.
const askFor = 600 * time.Millisecond

// Ask asks the helpers of some pools how they stand. ledger is the watcher's name on the
// engine, so that its own commands can be told from those of others; "" if it has none yet.
func Ask(ctx context.Context, rules *rule.Fleet, pools []string, ledger string) ([]Pool, error) {
	key, err := wire.ReadKey(rules.KeyFile.Absolute())
	if err != nil {
		return nil, err
	}
	a := accessOf(rules)
	if err := a.Check(); err != nil {
		return nil, err
	}
	a.Name, a.Inbox = "stilltide fleet", "watcher"
	l := wire.NewLink(a, key, func() {}, func(string) {})
	nc, err := l.Connect()
	if err != nil {
		return nil, fmt.Errorf("the engine at %s is away: %s", a.Servers[0], wire.InWords(err))
	}
	defer nc.Close()
	var mu sync.Mutex
	helpers := map[string]seen{}
	if _, err = nc.Subscribe("tide.here.>", func(m *nats.Msg) {
		if h, ok := wire.ReadHere(m.Subject, m.Data); ok {
			mu.Lock()
			defer mu.Unlock()
			helpers[h.Pool+"."+h.Helper] = seen{h, time.Now()}
		}
	}); err == nil {
		err = errors.Join(nc.Publish(wire.WhoSubject, nil), nc.Flush())
	}
	if err != nil {
		return nil, fmt.Errorf("the helpers cannot be asked: %w", err)
	}
	_ = wire.Pause(ctx, askFor)
	mu.Lock()
	defer mu.Unlock()
	for _, h := range helpers {
		if !slices.Contains(pools, h.Pool) {
			pools = append(pools, h.Pool)
		}
	}
	slices.Sort(pools)
	var list []Pool
	for _, name := range pools {
		p := Pool{Name: name, Helpers: helping(helpers, name, ledger)}
		for _, h := range p.Helpers {
			p.Workers, p.Busy = p.Workers+h.Workers, p.Busy+len(h.Runs)
		}
		list = append(list, p)
	}
	return list, nil
}
