package ledger

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"
)

// writer owns the one connection that writes.
type writer struct {
	l       *Ledger
	stepped bool // there is no goroutine: whoever waits for a commit makes it
	conn    *sql.Conn
	stmts   [statements]execer
	row     []any               // of the statement that is being carried out
	args    []driver.NamedValue // the same, as the driver takes it
	part    []byte              // of the journal, while it is being written

	logged int // rows that were written since the last checkpoint

	mu      sync.Mutex
	rows    underway
	waiting []waiter      // told when what was recorded is durable
	busy    time.Time     // when an urgent row was recorded last, or one of a burst, or somebody waited
	renewed bool          // a row that rests was changed since busy was last seen to
	last    time.Time     // when the last commit was made
	came    int64         // urgent rows that were recorded
	durable int64         // those of them that are durable
	burst   time.Duration // lateAfterBurst; tests have it longer
	closing bool
	kick    chan struct{}
	ended   chan struct{}
	stop    chan struct{} // closed when there is no more use in trying
	counted int64         // the greatest number of a placement that the counter knows
}

// waiter waits for commits; all says that the rows must be in their tables, those
// that may be late, too.
type waiter struct {
	done chan error
	all  bool
	rows int64 // how many urgent rows had come before it
}

// writerCache has the writer keep 8 MB of the tables at hand (the default is 2 MB): in a burst of
// many thousands it changes pages all over their indexes. It saves a seventh of such a burst.
const writerCache = `PRAGMA cache_size = -8000`

func startWriter(l *Ledger, stepped bool) (*writer, error) {
	conn, err := l.db.Conn(context.Background())
	if err != nil {
		return nil, err
	}
	w := &writer{l: l, conn: conn, rows: newUnderway(), burst: lateAfterBurst, kick: make(chan struct{}, 1),
		ended: make(chan struct{}), stop: make(chan struct{})}
	if _, err := conn.ExecContext(context.Background(), writerCache); err != nil {
		return nil, err
	}
	if err := conn.Raw(w.prepare); err != nil {
		return nil, err
	}
	if w.stepped = stepped; !stepped {
		go w.run()
	}
	return w, nil
}

// execer is a statement of the driver: the writer goes past database/sql, which
// would copy the values of each row and look at each of them. It does so within
// Raw, as it must.
type execer interface {
	driver.Stmt
	driver.StmtExecContext
}

func (w *writer) prepare(conn any) error {
	for s, text := range sqlOf {
		stmt, err := conn.(driver.ConnPrepareContext).PrepareContext(context.Background(), text)
		if err != nil {
			return err
		}
		w.stmts[s] = stmt.(execer)
	}
	return nil
}

func (w *writer) closeStatements() {
	_ = w.conn.Raw(func(any) error {
		for _, s := range w.stmts {
			s.Close()
		}
		return nil
	})
}

// addLate has a row written when nobody waits for other rows.
func (w *writer) addLate(key rowKey, r *record) {
	w.mu.Lock()
	known := len(w.rows.groups)+len(w.rows.urgent) > 0 // the writer has something to do already
	now := time.Now()
	w.came += w.rows.addLate(w.rows.row(key), r, now)
	if w.rows.late > burstRows {
		w.busy = now
	}
	w.mu.Unlock()
	if !known {
		w.wake()
	}
}

// renew changes a row that rests: most rows of a burst end that way. It is false
// if the row does not. The change is made with both locks held.
func (w *writer) renew(key rowKey, change func(*record)) bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	r := w.rows.resting(key)
	if r == nil {
		return false
	}
	w.l.mu.Lock()
	change(r)
	w.l.mu.Unlock()
	w.renewed = true
	return true
}

func (w *writer) wake() {
	select {
	case w.kick <- struct{}{}:
	default:
	}
}

// sync waits until what was recorded is durable; with all until it is in its tables.
func (w *writer) sync(ctx context.Context, all bool) error {
	done := make(chan error, 1)
	w.mu.Lock()
	if w.idle(all) {
		w.mu.Unlock()
		return nil
	}
	w.waiting = append(w.waiting, waiter{done, all, w.came})
	w.mu.Unlock()
	if w.stepped {
		return w.stepFor(done)
	}
	w.wake()
	select {
	case err := <-done:
		return err
	case <-ctx.Done():
		return ctx.Err()
	case <-w.ended:
	}
	select {
	case err := <-done: // with its last commit
		return err
	default:
		return errors.New("the ledger is closed")
	}
}

// behind counts the rows that are recorded and not durable.
func (w *writer) behind() int64 {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.came - w.durable
}

// idle tells that there is nothing to wait for.
func (w *writer) idle(all bool) bool {
	return w.durable == w.came && (!all || w.rows.count() == 0) && w.rows.late <= maxLate
}

// close writes what is under way and ends the goroutine. If the disk does not
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
	w.closeStatements()
	w.conn.Close()
	if n := w.rows.count(); n > 0 {
		return fmt.Errorf("the last %d records could not be written to the ledger; the next start finds the "+
			"files again", n)
	}
	return nil
}

// Late rows are written once nothing urgent has come for a moment, or, in a
// burst, no row at all for longer. They are written a group at a time, and in any
// case before they are old, so that who reads the tables from outside is never
// far behind. From manyLate on they are written without a pause; above maxLate whoever
// waits for a commit waits until they are fewer, so that a burst fills a folder and not
// the memory.
const (
	lateAfter      = 5 * time.Millisecond
	lateAfterBurst = 100 * time.Millisecond
	lateAtMost     = 3 * time.Second
	burstRows      = 64
	manyLate       = 20_000
	maxLate        = 28_000
)

// maxRows bounds a commit, so that callers waiting for its first rows do not wait
// for all that came after them.
const maxRows = 1500

// gathering is how long rows that nobody waits for are gathered after a commit:
// the row of a job that passes through its states at once is written once. It is
// also what a crash can lose of commands that ran, which then run again.
const gathering = 10 * time.Millisecond

// journalFrom is from how many rows that somebody waits for a part of the
// journal costs less than the rows themselves.
const journalFrom = 24

// commit is what one transaction writes.
type commit struct {
	urgent  []written
	journal bool      // the urgent rows go to the journal, in parts
	late    []written // what the groups hold
	groups  []*group
	first   int64 // the number of the first part
	placed  int64 // the greatest number of a placement
}

// intends tells that a placement is among the urgent rows, for which somebody
// will wait, if nobody does yet.
func (c *commit) intends() bool {
	return slices.ContainsFunc(c.urgent, func(w written) bool { return w.record.placement != nil })
}

func (c *commit) empty() bool { return len(c.urgent) == 0 && len(c.groups) == 0 }

// parts cuts the urgent rows into what a part of the journal holds.
func (c *commit) parts(f func(number int64, rows []written) error) error {
	for number, left := c.first, c.urgent; len(left) > 0; number++ {
		n := min(len(left), groupRows)
		if err := f(number, left[:n]); err != nil {
			return err
		}
		left = left[n:]
	}
	return nil
}

// next takes what the next commit holds; wait is how long it may be until late
// rows are due, 0 if there are none.
func (w *writer) next() (c commit, wait time.Duration, closing bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	now, u := time.Now(), &w.rows
	all := w.closing
	for _, one := range w.waiting {
		all = all || one.all
	}
	if w.renewed && u.late > burstRows {
		w.busy = now
	}
	w.renewed = false
	if len(w.waiting) > 0 {
		w.busy = now
	} else if more := gathering - now.Sub(w.last); more > 0 && !all && len(u.urgent) < maxRows &&
		u.late <= manyLate {
		return c, more, false
	}
	c.urgent = u.take(maxRows)
	everything := all && len(u.urgent) == 0
	c.journal = !everything && len(c.urgent) > 0 && (u.journaled > 0 || len(c.urgent) >= journalFrom &&
		(len(w.waiting) > 0 || c.intends()))
	c.first = u.lastJournal + 1
	if !everything && !c.journal {
		u.supersede(c.urgent)
	}
	if len(u.groups) == 0 {
		return c, 0, w.closing
	}
	n, wait := w.due(now, everything, len(w.waiting) > 0 && len(c.urgent) > 0)
	c.groups = u.groups[:n:n]
	for _, g := range c.groups {
		c.late = g.members(c.late)
	}
	return c, wait, w.closing
}

// due reports how many groups are to be written now, and when the next would be
// if nothing else comes. Whoever waits for the urgent rows does not wait for late
// ones, too, unless those are far too many or far too old.
func (w *writer) due(now time.Time, everything, waited bool) (n int, wait time.Duration) {
	u := &w.rows
	after := lateAfter
	if u.late > burstRows {
		after = w.burst
	}
	quiet := after - now.Sub(w.busy)
	old := lateAtMost - now.Sub(u.groups[0].since)
	switch wait = max(min(quiet, old), time.Millisecond); {
	case everything:
		return len(u.groups), wait
	case waited && u.late < maxLate && old > -lateAtMost:
		return 0, wait
	case u.late > manyLate:
		return u.first(2 * groupRows), wait
	case old <= 0, quiet <= 0 && len(u.urgent) == 0:
		return u.first(groupRows), wait
	}
	return 0, wait
}

// run is the writing goroutine: one commit for all that is urgent, up to a bound.
func (w *writer) run() {
	defer close(w.ended)
	troubled := false
	for {
		c, wait, closing := w.next()
		if c.empty() {
			told := w.tell(w.told())
			if closing {
				return
			}
			if !told {
				w.tidyLog(wait)
				w.rest(wait)
			}
			continue
		}
		err := w.carryOut(&c)
		w.logged += len(c.urgent) + len(c.late)
		w.committed(&c, err)
		if err == nil {
			if troubled {
				troubled = false
				w.l.tell(nil)
			}
			w.tell(w.told())
			continue
		}
		never := broken(err)
		if !troubled {
			troubled = true
			said := fmt.Errorf("the ledger cannot be written: %w", err)
			if never {
				said = w.l.damaged(err)
			}
			w.l.tell(said)
		}
		if never && closing {
			return
		}
		select {
		case <-time.After(time.Second):
		case <-w.stop:
			return
		}
	}
}

// told takes out those who waited for no more than what is durable now.
func (w *writer) told() (done []waiter) {
	w.mu.Lock()
	defer w.mu.Unlock()
	var rest []waiter
	many := w.rows.late > maxLate && !w.closing
	for _, one := range w.waiting {
		if one.rows <= w.durable && (!one.all || len(w.rows.groups) == 0) && !many {
			done = append(done, one)
		} else {
			rest = append(rest, one)
		}
	}
	w.waiting = rest
	return done
}

func (w *writer) tell(done []waiter) bool {
	for _, one := range done {
		one.done <- nil
	}
	return len(done) > 0
}

// committed notes what a commit has written. What could not be written is kept,
// in its order, for another try; callers waiting for durability then wait for
// all of it, and who wants to read the tables is told that it cannot be now.
func (w *writer) committed(c *commit, err error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if err != nil {
		w.rows.putBack(c.urgent)
		w.came = w.durable + int64(len(w.rows.urgent))
		waiting := w.waiting
		w.waiting = nil
		for _, one := range waiting {
			if one.all {
				one.done <- err
				continue
			}
			one.rows = w.came
			w.waiting = append(w.waiting, one)
		}
		return
	}
	now := time.Now()
	w.last = now
	if len(c.urgent) > 0 {
		w.busy = now
	}
	w.counted = max(w.counted, c.placed)
	w.rows.inTables(c.late, now)
	w.rows.drop(len(c.groups))
	settled := c.late
	if c.journal {
		_ = c.parts(func(number int64, rows []written) error {
			w.rows.inJournal(rows, number, now)
			w.rows.lastJournal = number
			return nil
		})
	} else {
		w.rows.inTables(c.urgent, now)
		settled = append(settled, c.urgent...)
	}
	w.durable += int64(len(c.urgent))
	w.l.mu.Lock()
	defer w.l.mu.Unlock()
	for _, one := range settled {
		w.l.settled(one.record)
	}
}

// What is committed is in SQLite's log at first. It is brought from there to the
// tables' file (a checkpoint) when there is nothing else to do, since whoever waits
// for a commit would wait for that, too; amid work only when the log is long.
const (
	maxLogPages = 4000 // of 4 KiB
	someLogRows = 500
)

// tidyLog makes a checkpoint if it is worth it and nothing is to be written.
func (w *writer) tidyLog(wait time.Duration) {
	if wait > 0 || w.logged < someLogRows {
		return
	}
	w.logged = 0
	// One that fails, or is held up by who reads, is made good by the next.
	_, _ = w.conn.ExecContext(context.Background(), `PRAGMA wal_checkpoint(PASSIVE)`)
}

// rest waits until something is recorded, or late rows are due.
func (w *writer) rest(wait time.Duration) {
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
