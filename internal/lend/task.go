package lend

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"math"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"

	"stilltide/internal/runner"
	"stilltide/internal/wire"
	"stilltide/internal/work"
)

// task is an offer that a helper has taken.
type task struct {
	h        *Helper
	js       jetstream.JetStream
	m        jetstream.Msg
	offer    wire.Offer
	delivery uint64
	lease    time.Duration
	begun    time.Duration // by bootTime

	folder string
	stop   context.CancelCauseFunc
}

func (t *task) name() string { return t.offer.Ledger + "." + t.offer.Ticket }

var (
	errUnwanted = errors.New("its watcher does not want it any more")
	errLease    = errors.New("its lease was lost")
)

// maxLost is after how many deliveries an offer is not run any more: the helpers that had it
// were lost with it, or lost their leases.
const maxLost = 4

// run takes the offer through: its lease is renewed all the time, and without it nothing is
// said of the command.
func (t *task) run(work context.Context) {
	ctx, stop := context.WithCancelCause(work)
	defer stop(nil)
	t.stop = stop
	t.h.begin(t)
	defer t.h.done(t)
	over := make(chan struct{})
	defer close(over)
	go t.renew(stop, over)
	r := wire.Result{Version: wire.WireVersion, Ticket: t.offer.Ticket, Helper: t.h.o.Name, Delivery: t.delivery}
	if t.delivery > maxLost {
		r.Exit, r.Lost = 127, true
	} else {
		t.inTurn(func() { t.do(ctx, &r) })
	}
	switch context.Cause(ctx) {
	case errLease:
		t.line(r, "its lease was lost, so it was ended; another helper runs it")
		return
	case errHelperEnds:
		t.line(r, "it was stopped, and is given back")
		_ = t.m.Nak()
		return
	}
	t.answer(ctx, r)
}

// inTurn runs a command beside others, or alone if it was lost with a helper before.
func (t *task) inTurn(run func()) {
	if t.delivery > 1 {
		t.h.alone.Lock()
		defer t.h.alone.Unlock()
	} else {
		t.h.alone.RLock()
		defer t.h.alone.RUnlock()
	}
	run()
}

// renew keeps the lease. Each renewal is confirmed; without one for three quarters of the
// lease's time the command is ended, because another helper may get it. The clock runs on
// while the machine sleeps.
func (t *task) renew(stop context.CancelCauseFunc, over <-chan struct{}) {
	last := bootTime()
	tick := time.NewTicker(t.lease / 5)
	defer tick.Stop()
	for {
		select {
		case <-over:
			return
		case <-tick.C:
		}
		asked := bootTime()
		if asked-last > t.lease*3/4 { // the machine slept, or the program was frozen
			stop(errLease)
			return
		}
		if _, err := t.h.link.Nc.Request(t.m.Reply(), []byte("+WPI"), t.lease/5); err == nil {
			last = asked
		} else if bootTime()-last > t.lease*3/4 {
			stop(errLease)
			return
		}
	}
}

// do fetches what the command needs, runs it, and sends what it made.
func (t *task) do(ctx context.Context, r *wire.Result) {
	t.folder = filepath.Join(t.h.o.Folder, "scratch", fmt.Sprintf("%s-%s-%d", t.offer.Ledger, t.offer.Ticket,
		t.delivery))
	defer os.RemoveAll(t.folder)
	if err := t.prepare(ctx); err != nil {
		r.Exit, r.NotRun, r.Damaged, r.NoRoom = 127, err.Error(), errors.Is(err, wire.ErrDamaged), noRoom(err)
		return
	}
	spec := t.spec()
	over := make(chan struct{})
	told := make(chan struct{})
	go func() { defer close(told); t.tellPrinted(over, spec.Output) }()
	res := t.h.runner.Run(ctx, spec)
	close(over)
	<-told
	r.Exit, r.Signal, r.TimedOut, r.Left = res.Exit, res.Signal, res.TimedOut, res.Left
	r.Stopped = res.Stopped
	r.Ran, r.CPU, r.Memory = res.Ran.Seconds(), res.CPU.Seconds(), res.Memory
	if res.Err != nil {
		r.NotRun = strings.ReplaceAll(res.Err.Error(), t.folder+"/work/", "")
	}
	if max := t.h.o.MaxTime; res.TimedOut && max > 0 && spec.Timeout == max && t.offer.Timeout != max.Seconds() {
		r.NotRun, r.TimedOut = fmt.Sprintf("it took longer than %s, which is the bound there", max), false
	}
	if err := t.send(ctx, r, spec); err != nil && ctx.Err() == nil {
		r.Exit, r.NotRun = 127, "what it made cannot be sent: "+err.Error()
		r.NoRoom = noRoom(err)
		r.Outputs, r.Stdout = wire.Manifest{}, nil
	}
}

// noRoom reports whether a disk is full.
func noRoom(err error) bool { return errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT) }

// prepare makes the folder that the offer's paths lie in.
func (t *task) prepare(ctx context.Context) error {
	for _, sub := range []string{"in", "scratch", "work"} {
		if err := os.MkdirAll(filepath.Join(t.folder, sub), 0o700); err != nil {
			return err
		}
	}
	from := &wire.Receiver{Js: t.js, Prefix: wire.FileSubject(t.offer.Ledger, t.offer.Ticket) + ".in.", Most: t.most()}
	items, err := from.Items(ctx, t.offer.Inputs)
	if err == nil {
		err = from.Into(ctx, t.folder, items)
	}
	if err == nil {
		err = t.bring(ctx)
	}
	for _, text := range t.offer.Texts {
		if err == nil {
			err = t.write(text)
		}
	}
	return err
}

// most is how many bytes the inputs may have.
func (t *task) most() int64 {
	if t.h.o.MaxSize == 0 {
		return math.MaxInt64 / 2
	}
	return t.h.o.MaxSize
}

func (t *task) bring(ctx context.Context) error {
	for _, item := range t.offer.Bring {
		if !filepath.IsLocal(filepath.FromSlash(item.Path)) {
			return fmt.Errorf("%s leads out of the folder", item.Path)
		}
		from := &wire.Receiver{Js: t.js, Prefix: wire.FileSubject(t.offer.Ledger, "bring-"), Most: t.most()}
		from.Prefix = strings.TrimSuffix(from.Prefix, ".")
		if err := t.h.kept.put(ctx, from, item, filepath.Join(t.folder, filepath.FromSlash(item.Path))); err != nil {
			return fmt.Errorf("%s: %w", item.Path, err)
		}
	}
	return nil
}

func (t *task) write(text wire.Text) error {
	path := filepath.FromSlash(text.Path)
	if !filepath.IsLocal(path) {
		return fmt.Errorf("%s leads out of the folder", text.Path)
	}
	path = filepath.Join(t.folder, path)
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	return os.WriteFile(path, []byte(t.here(text.Text)), fs.FileMode(text.Mode).Perm())
}

// here puts the folder's own path where the offer's root stands.
func (t *task) here(text string) string { return strings.ReplaceAll(text, t.offer.Root, t.folder) }

func (t *task) spec() runner.Spec {
	s := runner.Spec{Dir: filepath.Join(t.folder, "work"), Output: filepath.Join(t.folder, "printed"),
		Secrets: t.offer.Secrets, Ledger: t.h.o.Folder, Job: t.offer.Job, Attempt: t.offer.Attempt,
		Timeout: wire.Seconds(t.offer.Timeout)}
	for _, word := range t.offer.Args {
		s.Args = append(s.Args, t.here(word))
	}
	for _, entry := range t.offer.Env {
		s.Env = append(s.Env, t.here(entry))
	}
	if t.offer.Stdin != "" {
		s.Stdin = t.here(t.offer.Stdin)
	}
	if t.offer.Apart {
		s.Stdout = filepath.Join(t.folder, "stdout")
	}
	if max := t.h.o.MaxTime; max > 0 && (s.Timeout == 0 || s.Timeout > max) {
		s.Timeout = max
	}
	return s
}

// tellEvery is how often what a command prints is told while it runs.
const tellEvery = 500 * time.Millisecond

// tellPrinted sends what a command prints as it grows, in pieces, until it ends; and keeps the
// file from filling the disk.
func (t *task) tellPrinted(over <-chan struct{}, path string) {
	var bound work.Bound
	var told int64
	piece := make([]byte, 64<<10)
	tick := time.NewTicker(tellEvery)
	defer tick.Stop()
	for {
		select {
		case <-over:
			bound.Look(path)
			return
		case <-tick.C:
		}
		bound.Look(path)
		f, err := os.Open(path)
		if err != nil {
			continue
		}
		n, _ := f.ReadAt(piece, told) // the rest comes with the next look, or at the end
		f.Close()
		if n > 0 {
			m := nats.NewMsg(wire.PrintSubject(t.offer.Ledger, t.offer.Ticket))
			m.Header.Set(wire.OffsetHeader, strconv.FormatInt(told, 10))
			m.Data = piece[:n]
			if t.h.link.Nc.PublishMsg(m) == nil {
				told += int64(n)
			}
		}
	}
}

// send sends what the command printed and made.
func (t *task) send(ctx context.Context, r *wire.Result, spec runner.Spec) error {
	s := &wire.Sender{Js: t.js, Subject: fmt.Sprintf("%s.out.%d", wire.FileSubject(t.offer.Ledger, t.offer.Ticket),
		t.delivery)}
	var err error
	if r.Printed, err = s.Item(ctx, spec.Output, "printed"); errors.Is(err, fs.ErrNotExist) {
		r.Printed, err = wire.Item{}, nil
	}
	if err != nil || r.NotRun != "" {
		return err
	}
	scratch := filepath.Join(t.folder, "scratch")
	if err := bounded(t.folder, t.most()); err != nil {
		return err
	}
	items, err := s.Tree(ctx, scratch, "")
	if err != nil {
		return err
	}
	if spec.Stdout != "" {
		out, err := s.Item(ctx, spec.Stdout, "stdout")
		if err != nil {
			return err
		}
		r.Stdout = &out
	}
	r.Outputs, err = s.Manifest(ctx, items)
	return err
}

// bounded returns an error if a folder holds more bytes than may be sent.
func bounded(folder string, most int64) error {
	var total int64
	return filepath.Walk(folder, func(_ string, info os.FileInfo, err error) error {
		if err == nil && info.Mode().IsRegular() {
			if total += info.Size(); total > most {
				return wire.ErrTooLarge
			}
		}
		return err
	})
}

// answer publishes the result until that is confirmed; then the offer is done. The first
// result of a ticket wins.
func (t *task) answer(ctx context.Context, r wire.Result) {
	data, err := json.Marshal(r)
	if err != nil {
		t.line(r, err.Error())
		return
	}
	ctx = context.WithoutCancel(ctx)
	ctx, end := context.WithTimeout(ctx, 10*time.Minute)
	defer end()
	first := true
	err = wire.Until(ctx, func(ctx context.Context) error {
		_, err := t.js.Publish(ctx, wire.ResultSubject(t.offer.Ledger, t.offer.Ticket), data)
		if wire.IsDuplicate(err) {
			first, err = false, nil
		}
		return err
	})
	if err != nil {
		t.line(r, "its result cannot be sent: "+err.Error())
		return
	}
	one, end := context.WithTimeout(ctx, wire.OnePart)
	defer end()
	_ = t.m.DoubleAck(one) // whoever gets it again finds the result
	text := r.NotRun
	switch {
	case !first:
		text = "another helper was first"
	case r.Lost:
		text = "it was not run: helpers were lost with it again and again"
	case r.Stopped:
		text = errUnwanted.Error()
	}
	t.line(r, text)
}

func (t *task) line(r wire.Result, text string) {
	t.h.o.Line(Line{Rule: t.offer.Rule, Job: t.offer.Job, Attempt: t.offer.Attempt, Ledger: t.offer.Ledger,
		Exit: r.Exit,
		Ran:  wire.Seconds(r.Ran), Text: text})
}
