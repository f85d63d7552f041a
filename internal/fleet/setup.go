package fleet

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"stilltide/internal/wire"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"
)

// keptFor is how long the engine keeps what is not asked for any more.
const keptFor = 7 * 24 * time.Hour

// maxMessage bounds a message with its headers, in bytes; a server's own limit is 1 MiB.
const maxMessage = 1 << 20

// atOnce bounds the offers of one pool that helpers may hold together.
const atOnce = 1000

// setUp makes what the engine must hold. It is repeated after the engine lost everything.
func setUp(ctx context.Context, nc *nats.Conn, js jetstream.JetStream, pools []string, ledger string,
	lease time.Duration) error {
	replicas := 1
	if len(nc.Servers()) >= 3 {
		replicas = 3
	}
	queue := func(name, subjects string, bytes int64) jetstream.StreamConfig {
		return jetstream.StreamConfig{Name: name, Subjects: []string{subjects},
			Retention: jetstream.WorkQueuePolicy, Storage: jetstream.FileStorage, Replicas: replicas,
			Discard: jetstream.DiscardNew, MaxMsgsPerSubject: 1, DiscardNewPerSubject: true,
			MaxMsgSize: maxMessage, MaxBytes: bytes, MaxAge: keptFor, AllowDirect: true}
	}
	files := queue(wire.FileStream, "tide.file.>", 4<<30)
	files.Retention = jetstream.LimitsPolicy
	for _, s := range []jetstream.StreamConfig{queue(wire.JobStream, "tide.job.>", 256<<20),
		queue(wire.ResultStream, "tide.result.>", 256<<20), files} {
		if err := makeStream(ctx, js, s); err != nil {
			return fmt.Errorf("the stream %s cannot be made: %w", s.Name, err)
		}
	}
	for _, pool := range pools {
		if _, err := js.CreateOrUpdateConsumer(ctx, wire.JobStream,
			jetstream.ConsumerConfig{Durable: wire.PoolConsumer(pool),
				FilterSubject: "tide.job." + pool + ".>", AckPolicy: jetstream.AckExplicitPolicy, AckWait: lease,
				MaxAckPending: atOnce, MaxDeliver: -1}); err != nil {
			return fmt.Errorf("the pool %s cannot be made: %w", pool, err)
		}
	}
	_, err := js.CreateOrUpdateConsumer(ctx, wire.ResultStream, jetstream.ConsumerConfig{Durable: "ledger-" + ledger,
		FilterSubject: "tide.result." + ledger + ".>", AckPolicy: jetstream.AckExplicitPolicy, AckWait: lease,
		MaxAckPending: atOnce, MaxDeliver: -1})
	return err
}

// holds tells when each stream was made that the engine holds. It is an error if one is not there, or no longer has who
// takes from it: each of them may go alone.
func holds(ctx context.Context, js jetstream.JetStream, pools []string, ledger string) (made string, err error) {
	for _, name := range []string{wire.JobStream, wire.ResultStream, wire.FileStream} {
		s, err := js.Stream(ctx, name)
		if err != nil {
			return "", err
		}
		made += s.CachedInfo().Created.String()
	}
	for _, pool := range pools {
		if _, err = js.Consumer(ctx, wire.JobStream, wire.PoolConsumer(pool)); err != nil {
			return "", err
		}
	}
	_, err = js.Consumer(ctx, wire.ResultStream, "ledger-"+ledger)
	return made, err
}

// makeStream makes a stream, or brings it up to date. A server with little room reserves less.
func makeStream(ctx context.Context, js jetstream.JetStream, s jetstream.StreamConfig) error {
	old, err := js.Stream(ctx, s.Name)
	if err == nil {
		have := old.CachedInfo().Config // an operator may have given it another size, or more copies
		s.MaxBytes, s.Replicas, s.MaxAge = have.MaxBytes, max(s.Replicas, have.Replicas), have.MaxAge
		_, err = js.UpdateStream(ctx, s)
		return err
	}
	if !errors.Is(err, jetstream.ErrStreamNotFound) {
		return err
	}
	for ; ; s.MaxBytes /= 4 {
		_, err = js.CreateStream(ctx, s)
		if err == nil || !noRoom(err) || s.MaxBytes < 32<<20 {
			return err
		}
	}
}

// noRoom reports whether a server cannot reserve so much.
func noRoom(err error) bool {
	var api *jetstream.APIError
	return errors.As(err, &api) && strings.Contains(api.Description, "insufficient")
}
