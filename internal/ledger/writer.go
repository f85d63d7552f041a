package ledger

import (
	"context"
	"database/sql"
	"fmt"
	"sync"
	"time"

	"stilltide/internal/core/file"
)

// writer owns the one connection that writes.
type writer struct {
	l     *Ledger
	conn  *sql.Conn
	stmts map[string]*sql.Stmt

	mu      sync.Mutex
	pending *batch
	late    *batch    // may wait until nobody is waited for
	waiting []waiter  // told when what was recorded is durable
	asked   time.Time // when somebody waited last
	came    int64     // rows that were put into pending
	written int64     // rows of pending that are durable
	closing bool
	kick    chan struct{}
	ended   chan struct{}
	stop    chan struct{} // closed when there is no more use in trying
	counted int64         // the greatest number of a placement that the counter knows
}

// waiter waits for commits; all says that they must hold what may be late, too.
type waiter struct {
	done chan error
	all  bool
	rows int64 // how many rows had come before it
}

const (
	putJob = `INSERT INTO job (id, rule, file, watch, state, event, size, mod, dev, ino, dir, hash, attempts, earlier, taken, due, started, ended, ran, exit, reason, ends_in, chain, depth, result, seen)
		VALUES (?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?)
		ON CONFLICT (id) DO UPDATE SET rule=excluded.rule, state=excluded.state, event=excluded.event, size=excluded.size, mod=excluded.mod, dev=excluded.dev, ino=excluded.ino,
		hash=excluded.hash, attempts=excluded.attempts, earlier=excluded.earlier, due=excluded.due, started=excluded.started, ended=excluded.ended, ran=excluded.ran,
		exit=excluded.exit, reason=excluded.reason, ends_in=excluded.ends_in, result=excluded.result`
	putAttempt = `INSERT INTO attempt (job, number, started, ended, exit, reason, cpu, memory, output) VALUES (?,?,?,?,?,?,?,?,?)
		ON CONFLICT (job, number) DO UPDATE SET started=excluded.started, ended=excluded.ended, exit=excluded.exit, reason=excluded.reason,
		cpu=excluded.cpu, memory=excluded.memory, output=excluded.output`
	putPlacement = `INSERT INTO placement (job, id, attempt, kind, source, target, dir, dev, ino, size, mod, change, after_dev, after_ino, after_size, after_mod, over, kept, chained, state, leads)
		VALUES (?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?)
		ON CONFLICT (job, id) DO UPDATE SET target=excluded.target, state=excluded.state, kind=excluded.kind,
		after_dev=excluded.after_dev, after_ino=excluded.after_ino, after_size=excluded.after_size, after_mod=excluded.after_mod, over=excluded.over, kept=excluded.kept`
	putKnown = `INSERT INTO known (rule, file, size, mod, dev, ino, dir, hash, job) VALUES (?,?,?,?,?,?,?,?,?)
		ON CONFLICT (rule, file) DO UPDATE SET size=excluded.size, mod=excluded.mod, dev=excluded.dev, ino=excluded.ino, hash=excluded.hash, job=excluded.job`
	putMember = `INSERT INTO member (job, number, file, companion, size, mod, dev, ino, ends_in) VALUES (?,?,?,?,?,?,?,?,?)
		ON CONFLICT (job, number) DO UPDATE SET file=excluded.file, size=excluded.size, mod=excluded.mod, dev=excluded.dev, ino=excluded.ino, ends_in=excluded.ends_in`
	dropMembers = `DELETE FROM member WHERE job = ? AND number >= ?`
	putContent  = `INSERT INTO content (rule, hash, job) VALUES (?,?,?) ON CONFLICT (rule, hash) DO NOTHING`
	putWatched  = `INSERT INTO watched (rule, folder) VALUES (?,?) ON CONFLICT DO NOTHING`
	putPause    = `INSERT INTO pause (rule, paused, since) VALUES (?,?,?) ON CONFLICT (rule) DO UPDATE SET paused=excluded.paused, since=excluded.since`
	putMount    = `INSERT INTO mount (folder, point) VALUES (?,?) ON CONFLICT (folder) DO UPDATE SET point=excluded.point`
	dropKnown   = `DELETE FROM known WHERE rule = ? AND file = ?`
	putCounter  = `UPDATE counter SET value = ? WHERE name = 'placement'`
	putTally    = `INSERT INTO tally (rule, state, jobs) VALUES (?,?,?) ON CONFLICT (rule, state) DO UPDATE SET jobs = jobs + excluded.jobs`
)

func startWriter(l *Ledger) (*writer, error) {
	conn, err := l.db.Conn(context.Background())
	if err != nil {
		return nil, err
	}
	w := &writer{l: l, conn: conn, pending: newBatch(), late: newBatch(), stmts: map[string]*sql.Stmt{}, kick: make(chan struct{}, 1), ended: make(chan struct{}), stop: make(chan struct{})}
	for _, q := range []string{putJob, putAttempt, putPlacement, putKnown, dropKnown, putTally, putMember, dropMembers, putMount, putContent, putWatched, putPause, putCounter, dropJob, dropAttempts, dropPlacements} {
		if w.stmts[q], err = conn.PrepareContext(context.Background(), q); err != nil {
			return nil, err
		}
	}
	go w.run()
	return w, nil
}

// add has a row written with the next commit.
func (w *writer) add(r record) {
	w.mu.Lock()
	if older, ok := w.late.take(r.key); ok && r.job != nil {
		r.was = older.was
	}
	w.came += w.pending.put(r)
	w.mu.Unlock()
	w.wake()
}

// addLate has a row written when nobody waits for other rows.
func (w *writer) addLate(r record) {
	w.mu.Lock()
	if _, ok := w.pending.place[r.key]; ok {
		w.pending.put(r)
	} else {
		w.late.put(r)
	}
	w.mu.Unlock()
	w.wake()
}

func (w *writer) wake() {
	select {
	case w.kick <- struct{}{}:
	default:
	}
}

// sync waits until what was recorded is durable; with all also what may be late.
func (w *writer) sync(ctx context.Context, all bool) error {
	done := make(chan error, 1)
	w.mu.Lock()
	w.waiting = append(w.waiting, waiter{done, all, w.came})
	w.mu.Unlock()
	w.wake()
	select {
	case err := <-done:
		return err
	case <-ctx.Done():
		return ctx.Err()
	}
}

// close writes what is pending and ends the goroutine. If the disk does not
// allow that, it gives up after a moment and says so.
func (w *writer) close() error {
	w.mu.Lock()
	w.closing = true
	w.mu.Unlock()
	w.wake()
	select {
	case <-w.ended:
	case <-time.After(10 * time.Second):
		close(w.stop)
		<-w.ended
	}
	for _, s := range w.stmts {
		s.Close()
	}
	w.conn.Close()
	if n := len(w.pending.place) + len(w.late.place); n > 0 {
		return fmt.Errorf("the last %d records could not be written to the ledger; the next start finds the files again", n)
	}
	return nil
}

// Late rows are written once nobody has waited for a while: a moment, or
// longer in a burst, where somebody soon waits again. Then a part at a time, so
// that who comes meanwhile does not wait long; and in any case before they are
// too many.
const (
	lateAfter      = 5 * time.Millisecond
	lateAfterBurst = 60 * time.Millisecond
	burstRows      = 64
	latePart       = 500
	mostLate       = 40_000
)

// mostRows bounds a commit, so that who waits for its first rows does not wait
// for all that came after them.
const mostRows = 1500

// next takes what the next commit holds; wait is how long it may be until late
// rows are due, 0 if there are none.
func (w *writer) next() (b *batch, rows int64, wait time.Duration, closing bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if b = w.pending; len(b.rows) > mostRows {
		b = w.pending.cut(mostRows)
	} else {
		w.pending = newBatch()
	}
	rows = int64(len(b.rows))
	now := time.Now()
	all := w.closing
	for _, one := range w.waiting {
		all = all || one.all
	}
	if len(w.waiting) > 0 {
		w.asked = now
	}
	if w.late.empty() {
		return b, rows, 0, w.closing
	}
	after := lateAfter
	if len(w.late.rows) > burstRows {
		after = lateAfterBurst
	}
	switch wait = after - now.Sub(w.asked); {
	case !w.pending.empty():
	case all:
		b.follow(w.late)
		w.late = newBatch()
	case wait <= 0 || len(w.late.rows) > mostLate:
		b.follow(w.late.cut(latePart))
	}
	return b, rows, max(wait, time.Millisecond), w.closing
}

// told takes out those who waited for no more than what is durable now.
func (w *writer) told() []waiter {
	w.mu.Lock()
	defer w.mu.Unlock()
	var done, rest []waiter
	for _, one := range w.waiting {
		if one.rows <= w.written && (!one.all || w.late.empty()) {
			done = append(done, one)
		} else {
			rest = append(rest, one)
		}
	}
	w.waiting = rest
	return done
}

// run is the writing goroutine: one commit for all that is pending, up to a bound.
func (w *writer) run() {
	defer close(w.ended)
	troubled := false
	for {
		batch, rows, wait, closing := w.next()
		if batch.empty() {
			w.written += rows
			told := w.told()
			for _, one := range told {
				one.done <- nil
			}
			if closing {
				return
			}
			if len(told) == 0 {
				w.idle(wait)
			}
			continue
		}
		err := w.commit(batch)
		if err == nil {
			if troubled {
				troubled = false
				w.l.tell(nil)
			}
			w.l.settled(batch)
			w.written += rows
			for _, one := range w.told() {
				one.done <- nil
			}
			continue
		}
		if !troubled {
			troubled = true
			w.l.tell(fmt.Errorf("the ledger cannot be written: %w", err))
		}
		w.putBack(batch)
		select {
		case <-time.After(time.Second):
		case <-w.stop:
			return
		}
	}
}

// putBack keeps what could not be written, in its order, for another try. Who
// waits then waits for all of it.
func (w *writer) putBack(batch *batch) {
	w.mu.Lock()
	defer w.mu.Unlock()
	batch.follow(w.pending)
	w.pending = batch
	w.came = w.written + int64(len(batch.rows))
	for i := range w.waiting {
		w.waiting[i].rows = w.came
	}
}

// idle waits until something is recorded, or late rows are due.
func (w *writer) idle(wait time.Duration) {
	if wait == 0 {
		<-w.kick
		return
	}
	due := time.NewTimer(wait)
	defer due.Stop()
	select {
	case <-w.kick:
	case <-due.C:
	}
}

func (w *writer) commit(b *batch) error {
	if b.empty() {
		return nil
	}
	tx, err := w.conn.BeginTx(context.Background(), nil)
	if err != nil {
		return err
	}
	defer tx.Rollback() // does nothing after the commit
	if err := w.rows(b); err != nil {
		return err
	}
	return tx.Commit()
}

func (w *writer) exec(query string, args ...any) error {
	_, err := w.stmts[query].Exec(args...)
	return err
}

// rows writes what a commit holds.
func (w *writer) rows(b *batch) error {
	placed := int64(0)
	for i := range b.rows {
		r := &b.rows[i]
		if r.query == "" {
			continue
		}
		if err := w.exec(r.query, r.columns()...); err != nil {
			return err
		}
		if r.placement != nil {
			placed = max(placed, r.placement.ID)
		}
	}
	if placed > w.counted {
		if err := w.exec(putCounter, placed); err != nil {
			return err
		}
	}
	for k, n := range b.tally() {
		if n == 0 {
			continue
		}
		if err := w.exec(putTally, k.rule, string(k.state), int64(n)); err != nil {
			return err
		}
	}
	w.counted = max(w.counted, placed)
	return nil
}

// settled forgets the copies of what is in the file now.
func (l *Ledger) settled(b *batch) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, r := range b.rows {
		if r.job != nil && l.recent[r.job.File] == r.job {
			delete(l.recent, r.job.File)
		}
		if r.knownKey == nil {
			continue
		}
		if k, ok := l.known[*r.knownKey]; ok && k == r.known {
			delete(l.known, *r.knownKey)
		}
	}
}

// Record writes a job's row. was is the state that was recorded before, "" for
// a new job; it keeps the tally right.
func (l *Ledger) Record(j Job, was State) { l.w.add(l.jobRecord(j, was)) }

// RecordEnd is Record for a job that is over and whose input went where its
// recorded placement said. A crash that loses it costs a look at that place, so
// it may be written late.
func (l *Ledger) RecordEnd(j Job, was State) { l.w.addLate(l.jobRecord(j, was)) }

func (l *Ledger) jobRecord(j Job, was State) record {
	l.mu.Lock()
	l.recent[j.File] = &j
	l.mu.Unlock()
	return record{key: rowKey{table: "job", id: j.ID}, job: &j, was: was, query: putJob}
}

func jobValues(j *Job) []any {
	var endsIn any
	if j.EndsIn != "" {
		endsIn = j.EndsIn
	}
	f := j.Facts
	return []any{j.ID, j.Rule, j.File, j.Watch, string(j.State), string(j.Event), f.Size, nano(f.Mod), int64(f.Dev), int64(f.Ino), f.Dir, j.Hash,
		int64(j.Attempts), int64(j.Earlier), nano(j.Taken), nano(j.Due), nano(j.Started), nano(j.Ended), int64(j.Ran), optional(j.Exit), j.Reason, endsIn, j.Chain, int64(j.Depth), j.Result, nano(j.Seen)}
}

// RecordMembers writes the rows of a job's further files. A job never gains
// files; rows behind its last are ones that went.
func (l *Ledger) RecordMembers(j Job) {
	l.w.add(record{key: rowKey{table: "members", id: j.ID}, query: dropMembers, args: []any{j.ID, int64(len(j.Extra))}})
	for i, m := range j.Extra {
		var endsIn any
		if m.EndsIn != "" {
			endsIn = m.EndsIn
		}
		f := m.Facts
		l.w.add(record{key: rowKey{table: "member", id: j.ID, sub: i}, query: putMember,
			args: []any{j.ID, int64(i), m.File, m.Companion, f.Size, nano(f.Mod), int64(f.Dev), int64(f.Ino), endsIn}})
	}
}

// RememberContent notes content that a rule never takes again.
func (l *Ledger) RememberContent(rule, hash string, job int64) {
	l.w.add(record{key: rowKey{table: "content", known: knownKey{rule, hash}}, query: putContent, args: []any{rule, hash, job}})
}

// RecordWatched notes that a rule has watched a folder.
func (l *Ledger) RecordWatched(rule, folder string) {
	l.w.add(record{key: rowKey{table: "watched", known: knownKey{rule, folder}}, query: putWatched, args: []any{rule, folder}})
}

// RecordPause notes that a rule is paused, or not any more; "" is all rules.
func (l *Ledger) RecordPause(rule string, paused bool) {
	l.w.add(record{key: rowKey{table: "pause", known: knownKey{rule: rule}}, query: putPause, args: []any{rule, paused, nano(time.Now())}})
}

// RememberMount notes the mount point that a folder lies on, "" to forget it.
func (l *Ledger) RememberMount(folder, point string) {
	l.w.add(record{key: rowKey{table: "mount", known: knownKey{file: folder}}, query: putMount, args: []any{folder, point}})
}

func optional(n *int) any {
	if n == nil {
		return nil
	}
	return int64(*n)
}

// RecordAttempt writes an attempt's row.
func (l *Ledger) RecordAttempt(a Attempt) {
	l.w.add(record{key: rowKey{table: "attempt", id: a.Job, sub: a.Number}, query: putAttempt, args: []any{a.Job, int64(a.Number), nano(a.Started), nano(a.Ended), optional(a.Exit), a.Reason, int64(a.CPU), a.Memory, a.Output}})
}

// RecordPlacement writes a placement's row.
func (l *Ledger) RecordPlacement(p Placement) {
	l.w.add(record{key: rowKey{table: "placement", id: p.ID}, query: putPlacement, placement: &p})
}

// RecordPlaced is RecordPlacement for one that was done just as it was
// intended; it may be written late.
func (l *Ledger) RecordPlaced(p Placement) {
	l.w.addLate(record{key: rowKey{table: "placement", id: p.ID}, query: putPlacement, placement: &p})
}

func placementValues(p *Placement) []any {
	f, g := p.Facts, p.After
	return []any{p.Job, p.ID, int64(p.Attempt), p.Kind, p.Source, p.Target, f.Dir || g.Dir, int64(f.Dev), int64(f.Ino), f.Size, nano(f.Mod), nano(f.Change),
		int64(g.Dev), int64(g.Ino), g.Size, nano(g.Mod), p.Over, p.Kept, p.Chained, string(p.State), string(p.Leads)}
}

// Remember notes that a rule has handled a file that stays where it is.
func (l *Ledger) Remember(k Known) {
	key := knownKey{k.Rule, k.File}
	l.mu.Lock()
	l.known[key] = &k
	l.counts[k.Rule]++ // an upper bound is enough: it only says whether a look pays
	l.mu.Unlock()
	l.w.add(record{key: rowKey{table: "known", known: key}, query: putKnown, known: &k, knownKey: &key})
}

func knownValues(k *Known) []any {
	f := k.Facts
	return []any{k.Rule, k.File, f.Size, nano(f.Mod), int64(f.Dev), int64(f.Ino), f.Dir, k.Hash, k.Job}
}

// Forget notes that a file is not where the rule left it.
func (l *Ledger) Forget(rule, path string) {
	key := knownKey{rule, path}
	l.mu.Lock()
	if l.counts[rule] == 0 {
		l.mu.Unlock()
		return
	}
	l.known[key] = nil
	l.mu.Unlock()
	l.w.add(record{key: rowKey{table: "known", known: key}, query: dropKnown, knownKey: &key, args: []any{rule, path}})
}

// KnownCount is how many files a rule remembers.
func (l *Ledger) KnownCount(rule string) int {
	n := 0
	if err := l.db.QueryRow(`SELECT count(*) FROM known WHERE rule = ?`, rule).Scan(&n); err != nil {
		return 0
	}
	return n
}

// Known gives what a rule remembers of a file.
func (l *Ledger) Known(rule, path string) (Known, bool, error) {
	l.mu.Lock()
	k, recent := l.known[knownKey{rule, path}]
	none := l.counts != nil && l.counts[rule] == 0
	l.mu.Unlock()
	switch {
	case recent && k == nil, none && !recent:
		return Known{}, false, nil
	case recent:
		return *k, true, nil
	}
	found := Known{Rule: rule, File: path}
	var mod, dev, ino int64
	err := l.db.QueryRow(`SELECT size, mod, dev, ino, dir, hash, job FROM known WHERE rule = ? AND file = ?`, rule, path).
		Scan(&found.Facts.Size, &mod, &dev, &ino, &found.Facts.Dir, &found.Hash, &found.Job)
	if err == sql.ErrNoRows {
		return Known{}, false, nil
	}
	if err != nil {
		return Known{}, false, l.damaged(err)
	}
	found.Facts = file.Facts{Exists: true, Dir: found.Facts.Dir, Regular: !found.Facts.Dir, Size: found.Facts.Size, Mod: fromNano(mod), Dev: uint64(dev), Ino: uint64(ino)}
	return found, true, nil
}
