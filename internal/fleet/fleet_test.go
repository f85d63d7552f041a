package fleet

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"
	"github.com/stretchr/testify/require"

	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/runner"
	"stilltide/internal/standin/engine"
	"stilltide/internal/wire"
	"stilltide/internal/work"
)

// memory is a book without a ledger.
type memory struct {
	mu   sync.Mutex
	open map[string]job.Ticket
	jobs map[int64]job.Job

	synced atomic.Int64
	fails  error
}

func (m *memory) Identity() (string, error) { return "kelder", nil }
func (m *memory) RecordTicket(t job.Ticket) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.open[t.Name] = t
}
func (m *memory) CloseTicket(name string) {
	m.mu.Lock()
	defer m.mu.Unlock()
	delete(m.open, name)
}
func (m *memory) Sync(context.Context) error { m.synced.Add(1); return m.fails }
func (m *memory) Tickets() (list []job.Ticket, err error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, t := range m.open {
		list = append(list, t)
	}
	return list, nil
}
func (m *memory) Job(number int64) (job.Job, bool, error) {
	j, there := m.jobs[number]
	return j, there, nil
}

// pair is a watcher's end, and what a test says in a helper's place.
type pair struct {
	*testing.T
	f    *Fleet
	book *memory
	nc   *nats.Conn
	js   jetstream.JetStream
	dir  string
	key  string // the watcher's public key

	mu   sync.Mutex
	said []string
}

func (p *pair) say(text string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.said = append(p.said, text)
}

func newPair(t *testing.T) *pair {
	p := &pair{T: t, dir: t.TempDir(), book: &memory{open: map[string]job.Ticket{}, jobs: map[int64]job.Job{}}}
	url := engine.Here(t)
	key := filepath.Join(p.dir, "watcher.nk")
	var err error
	p.key, err = wire.MakeKey(key)
	require.NoError(t, err)
	p.f, err = New(Options{Book: p.book, Pools: []string{"heavy"}, Changed: func() {}, Said: p.say,
		Rules: &rule.Fleet{Server: []rule.Text{{S: url}}, KeyFile: rule.Path{Text: rule.Text{S: key}},
			Lease: rule.Duration{Duration: 2 * time.Second}}})
	require.NoError(t, err)
	require.NoError(t, p.f.Start())
	t.Cleanup(p.f.Close)
	p.nc, err = nats.Connect(url)
	require.NoError(t, err)
	t.Cleanup(p.nc.Close)
	p.js, err = jetstream.New(p.nc)
	require.NoError(t, err)
	return p
}

// trip is a command with one input.
func (p *pair) trip(content string) work.Trip {
	in := filepath.Join(p.dir, "in")
	require.NoError(p, os.WriteFile(in, []byte(content), 0o600))
	scratch := filepath.Join(p.dir, "scratch")
	require.NoError(p, os.MkdirAll(scratch, 0o700))
	return work.Trip{Pool: "heavy", Rule: "charts", Job: 7, Attempt: 1, Args: []string{"true"}, Scratch: scratch,
		Inputs: []plan.Carried{{Here: in, There: "in/chart"}}, Output: filepath.Join(p.dir, "printed")}
}

// carry begins a trip, and returns its offer and how it ends.
func (p *pair) carry(t work.Trip) (jetstream.Msg, wire.Offer, chan runner.Result) {
	ended := make(chan runner.Result, 1)
	go func() {
		res, _ := p.f.Carry(p.Context(), t)
		ended <- res
	}()
	m := p.next()
	o, err := wire.Open(m.Subject(), m.Headers(), m.Data(), []string{p.key})
	require.NoError(p, err)
	return m, o, ended
}

// next takes the next offer, as a helper does.
func (p *pair) next() (m jetstream.Msg) {
	require.Eventually(p, func() bool {
		c, err := p.js.Consumer(p.Context(), wire.JobStream, wire.PoolConsumer("heavy"))
		if err == nil {
			m, err = c.Next(jetstream.FetchMaxWait(100 * time.Millisecond))
		}
		return err == nil
	}, time.Minute, 10*time.Millisecond)
	return m
}

func (p *pair) answer(o wire.Offer, r wire.Result) error {
	r.Version, r.Ticket, r.Helper = wire.WireVersion, o.Ticket, "kelder2"
	data, err := json.Marshal(r)
	require.NoError(p, err)
	_, err = p.js.Publish(p.Context(), wire.ResultSubject(o.Ledger, o.Ticket), data)
	return err
}

func textItem(path, text string) wire.Item {
	return wire.Item{Path: path, Size: int64(len(text)), Mode: 0o600, SHA: sumOfText(text), Inline: []byte(text)}
}

func sumOfText(text string) string {
	sum := sha256.Sum256([]byte(text))
	return hex.EncodeToString(sum[:])
}

// One result is taken for a ticket, whoever sends how many; what comes late is dropped.
func TestOneResultCounts(t *testing.T) {
	t.Parallel()
	p := newPair(t)
	m, o, ended := p.carry(p.trip("x"))
	require.NoError(t, p.answer(o, wire.Result{Outputs: wire.Manifest{Items: []wire.Item{textItem("made", "first")}}}))
	require.True(t, wire.IsDuplicate(p.answer(o, wire.Result{Exit: 9})), "the engine refuses a second one")
	require.Zero(t, (<-ended).Exit)
	require.NoError(t, m.DoubleAck(t.Context()))
	require.Len(t, p.book.open, 1, "the ticket is open until the job's end is recorded")
	p.f.Over(7)
	require.Empty(t, p.book.open)
	require.Eventually(t, func() bool { return p.answer(o, wire.Result{Exit: 9}) == nil }, time.Minute,
		time.Millisecond,
		"the first is acknowledged")
	require.Eventually(t, func() bool {
		s, err := p.js.Stream(t.Context(), wire.ResultStream)
		return err == nil && s.CachedInfo().State.Msgs == 0
	}, time.Minute, time.Millisecond, "the late one is dropped")
	text, err := os.ReadFile(filepath.Join(p.dir, "scratch/made"))
	require.NoError(t, err)
	require.Equal(t, "first", string(text))
}

// What a helper sends cannot reach out of the attempt's own folder, nor be another's.
func TestResultsThatReachOut(t *testing.T) {
	t.Parallel()
	outside := textItem("../outside", "x")
	absolute := textItem("/tmp/stilltide-outside", "x")
	own := textItem(plan.HiddenPrefix+"stdout-3", "x")
	foreign := wire.Item{Path: "a", Size: 3, SHA: sumOfText("abc"), At: "tide.file.other.1-1-0-a.out.1.1", Parts: 1}
	link := wire.Item{Path: "link/x", Size: 1, SHA: sumOfText("x"), Inline: []byte("x"), Mode: 0o600}
	for name, item := range map[string]wire.Item{"up": outside, "absolute": absolute, "own name": own,
		"foreign":        foreign,
		"through a link": link} {
		t.Run(name, func(t *testing.T) {
			p := newPair(t)
			trip := p.trip("x")
			require.NoError(t, os.Symlink(t.TempDir(), filepath.Join(trip.Scratch, "link")))
			if name != "through a link" {
				require.NoError(t, os.Remove(filepath.Join(trip.Scratch, "link")))
			} else {
				trip.Scratch = filepath.Join(trip.Scratch, "..", "scratch2")
				require.NoError(t, os.Mkdir(trip.Scratch, 0o700))
			}
			_, o, ended := p.carry(trip)
			if name == "through a link" {
				require.NoError(t, os.Symlink(t.TempDir(), filepath.Join(trip.Scratch, "link")))
			}
			for n := 0; ; n++ {
				require.NoError(t, p.answer(o, wire.Result{Outputs: wire.Manifest{Items: []wire.Item{item}}}))
				select {
				case res := <-ended:
					require.Error(t, res.Err)
					require.NoFileExists(t, filepath.Join(p.dir, "outside"))
					require.NoFileExists(t, "/tmp/stilltide-outside")
					return
				case <-time.After(300 * time.Millisecond): // damaged: it is offered anew
					m := p.next()
					var err error
					o, err = wire.Open(m.Subject(), m.Headers(), m.Data(), []string{p.key})
					require.NoError(t, err)
				}
			}
		})
	}
}

// A part that is lost or changed on the way is noticed: the file is sent anew, and in the end
// the command counts as not run.
func TestDamageOnTheWay(t *testing.T) {
	t.Parallel()
	p := newPair(t)
	_, o, ended := p.carry(p.trip("x"))
	for n := 1; ; n++ {
		bad := textItem("made", "content")
		bad.SHA = sumOfText("other")
		require.NoError(t, p.answer(o, wire.Result{Outputs: wire.Manifest{Items: []wire.Item{bad}}}))
		if n == maxDamaged {
			break
		}
		m := p.next()
		var err error
		before := o.Ticket
		o, err = wire.Open(m.Subject(), m.Headers(), m.Data(), []string{p.key})
		require.NoError(t, err)
		require.NotEqual(t, before, o.Ticket, "under a ticket of its own")
	}
	require.ErrorContains(t, (<-ended).Err, "damaged again and again")
}

// What the engine has lost is offered again, under the same ticket; a ticket that an earlier run
// has left open is taken up.
func TestTakenUpAgain(t *testing.T) {
	t.Parallel()
	p := newPair(t)
	trip := p.trip("x")
	_, o, ended := p.carry(trip)
	s, err := p.js.Stream(t.Context(), wire.JobStream)
	require.NoError(t, err)
	require.NoError(t, s.Purge(t.Context()))
	_, again, _ := p.carryOn()
	require.Equal(t, o.Ticket, again.Ticket)
	p.f.Leave()
	res := <-ended
	require.True(t, res.Behind)
	require.NoError(t, p.answer(again, wire.Result{Exit: 0}))
	p.f.mu.Lock()
	p.f.leaving = false
	delete(p.f.open, o.Ticket) // as after a start
	p.f.mu.Unlock()
	trip.Attempt = 2
	res, by := p.f.Carry(t.Context(), trip)
	require.NoError(t, res.Err)
	require.Equal(t, "kelder2", by)
}

// carryOn takes the next offer.
func (p *pair) carryOn() (jetstream.Msg, wire.Offer, error) {
	m := p.next()
	o, err := wire.Open(m.Subject(), m.Headers(), m.Data(), []string{p.key})
	require.NoError(p, err)
	return m, o, err
}

// A ticket is durable before anybody can know of it: where the ledger cannot be written nothing
// is offered.
func TestDurableFirst(t *testing.T) {
	t.Parallel()
	p := newPair(t)
	p.book.fails = errors.New("the disk is full")
	res, _ := p.f.Carry(t.Context(), p.trip("x"))
	require.ErrorContains(t, res.Err, "the ledger cannot be written")
	p.book.fails = nil
	require.Positive(t, p.book.synced.Load())
	_, o, _ := p.carry(p.trip("x"))
	require.Equal(t, int64(7), o.Job)
}

// A helper whose disk is full is no fault of the file: the job waits, and the attempt does not
// count.
func TestAHelperWithoutRoom(t *testing.T) {
	t.Parallel()
	p := newPair(t)
	_, o, ended := p.carry(p.trip("x"))
	require.NoError(t, p.answer(o, wire.Result{Exit: 127, NotRun: "x: no space left on device", NoRoom: true}))
	res := <-ended
	require.ErrorIs(t, res.Err, syscall.ENOSPC)
	require.ErrorContains(t, res.Err, "kelder2 has no room for it")
}

// A command that may run here is given back while no machine can run it; what a helper may be
// running is not.
func TestGivenBack(t *testing.T) {
	t.Parallel()
	p := newPair(t)
	p.f.mu.Lock()
	p.f.begun = p.f.begun.Add(-time.Hour)
	p.f.mu.Unlock()
	trip := p.trip("x")
	trip.RunHere = true
	res, _ := p.f.Carry(t.Context(), trip)
	require.ErrorIs(t, res.Err, work.ErrPoolAway)
	require.Empty(t, p.book.open)
	require.Eventually(t, func() bool {
		s, err := p.js.Stream(t.Context(), wire.JobStream)
		return err == nil && s.CachedInfo().State.Msgs == 0
	}, time.Minute, time.Millisecond, "no helper begins it any more")

	text, err := json.Marshal(wire.Here{Helper: "kelder2", Pool: "heavy", Workers: 2})
	require.NoError(t, err)
	ctx, end := context.WithCancel(t.Context())
	var helper sync.WaitGroup
	defer helper.Wait()
	defer end()
	helper.Go(func() { // it says so again and again, however slow this machine is
		for p.nc.Publish(wire.HereSubject("heavy", "kelder2"), text) == nil && wire.Pause(ctx, time.Second) == nil {
		}
	})
	require.Eventually(t, func() bool { return !p.f.poolAway("heavy") }, time.Minute, time.Millisecond)
	_, o, ended := p.carry(trip)
	require.NoError(t, p.answer(o, wire.Result{}))
	require.NoError(t, (<-ended).Err)
}

// What travels along is sent once, and again when the engine has lost it.
func TestBroughtAgain(t *testing.T) {
	t.Parallel()
	p := newPair(t)
	program := filepath.Join(p.dir, "halve")
	require.NoError(t, os.WriteFile(program, []byte("#!/bin/sh\n"), 0o755))
	trip := p.trip("x")
	trip.Bring = []plan.Carried{{Here: program, There: "work/bin/halve"}}
	_, o, ended := p.carry(trip)
	require.Equal(t, uint32(0o755), o.Bring[0].Mode)
	there := func() bool {
		s, err := p.js.Stream(t.Context(), wire.FileStream)
		require.NoError(t, err)
		_, err = s.GetLastMsgForSubject(t.Context(), o.Bring[0].At+".0")
		return err == nil
	}
	require.True(t, there())
	s, err := p.js.Stream(t.Context(), wire.FileStream)
	require.NoError(t, err)
	require.NoError(t, s.Purge(t.Context()))
	require.NoError(t, p.answer(o, wire.Result{NotRun: "a part is missing", Damaged: true}))
	_, o, err = p.carryOn()
	require.NoError(t, err)
	require.True(t, there())
	require.NoError(t, p.answer(o, wire.Result{}))
	require.NoError(t, (<-ended).Err)
}

// An engine that is full takes nothing: that is said, and when there is room again it goes on.
func TestAFullEngine(t *testing.T) {
	t.Parallel()
	p := newPair(t)
	p.f.long = 100 * time.Millisecond
	var files jetstream.Stream
	require.Eventually(t, func() bool {
		var err error
		files, err = p.js.Stream(t.Context(), wire.FileStream)
		return err == nil
	}, time.Minute, time.Millisecond)
	small := files.CachedInfo().Config
	room := small.MaxBytes
	small.MaxBytes = 100 << 10
	_, err := p.js.UpdateStream(t.Context(), small)
	require.NoError(t, err)
	ended := make(chan runner.Result, 1)
	trip := p.trip(strings.Repeat("x", 300<<10))
	go func() {
		res, _ := p.f.Carry(t.Context(), trip)
		ended <- res
	}()
	require.Eventually(t, func() bool {
		p.mu.Lock()
		defer p.mu.Unlock()
		return strings.Contains(strings.Join(p.said, "; "), "does not take what is handed over to heavy")
	}, time.Minute, time.Millisecond)
	small.MaxBytes = room
	_, err = p.js.UpdateStream(t.Context(), small)
	require.NoError(t, err)
	_, o, err := p.carryOn()
	require.NoError(t, err)
	require.NoError(t, p.answer(o, wire.Result{}))
	require.NoError(t, (<-ended).Err)
}
