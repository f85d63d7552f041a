// Package commits writes rows of the ledger's tables, as few times as it can: one goroutine owns
// the one connection that writes, and what is recorded during a commit shares the next one.
//
// Rows that somebody waits for are urgent. Under load, hundreds of them become durable as one row
// of a journal and move to their own tables when nobody waits; by then most are out of date, so
// only their newest state is written. Rows that may be late are written with them.
package commits

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"sync"
	"time"

	"stilltide/internal/tables"
)

// Options are what a writer is told of the ledger that it writes for.
type Options struct {
	Stepped bool                   // there is no goroutine: whoever waits for a commit makes it
	Check   func() error           // asked before each commit: an error if the ledger is another's by now
	Tell    func(error)            // is told of each trouble, and with nil when it is over
	Damaged func(error) error      // what to say of a file that is broken
	Settled func([]tables.Written) // is told of rows that are in their tables now
	Quiet   time.Duration          // how long no row has come before those of a burst are written late; 0 for the usual
}

// Writer owns the one connection that writes.
type Writer struct {
	o     Options
	conn  *sql.Conn
	stmts [tables.Statements]execer
	row   []any               // of the statement that is being carried out
	args  []driver.NamedValue // the same, as the driver takes it
	part  []byte              // of the journal, while it is being written

	logged int // rows that were written since the last checkpoint

	mu      sync.Mutex
	rows    tables.Underway
	waiting []waiter  // told when what was recorded is durable
	busy    time.Time // when an urgent row was recorded last, or one of a burst, or somebody waited
	renewed bool      // a row that rests was changed since busy was last seen to
	last    time.Time // when the last commit was made
	came    int64     // urgent rows that were recorded
	durable int64     // those of them that are durable
	closing bool
	kick    chan struct{}
	ended   chan struct{}
	stop    chan struct{} // closed when there is no more use in trying
	dead    chan struct{} // closed by Abandon
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

// Start takes a connection of its own, and begins to write there what it is given. End it
// with close.
func Start(db *sql.DB, o Options) (*Writer, error) {
	conn, err := db.Conn(context.Background())
	if err != nil {
		return nil, err
	}
	if o.Quiet == 0 {
		o.Quiet = lateAfterBurst
	}
	w := &Writer{o: o, conn: conn, rows: tables.NewUnderway(), kick: make(chan struct{}, 1),
		ended: make(chan struct{}), stop: make(chan struct{}), dead: make(chan struct{})}
	if _, err := conn.ExecContext(context.Background(), writerCache); err != nil {
		return nil, err
	}
	if err := conn.Raw(w.prepare); err != nil {
		return nil, err
	}
	if !o.Stepped {
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

func (w *Writer) prepare(conn any) error {
	for s, text := range tables.SQL {
		stmt, err := conn.(driver.ConnPrepareContext).PrepareContext(context.Background(), text)
		if err != nil {
			return err
		}
		w.stmts[s] = stmt.(execer)
	}
	return nil
}

func (w *Writer) closeStatements() {
	_ = w.conn.Raw(func(any) error {
		for _, s := range w.stmts {
			s.Close()
		}
		return nil
	})
}

// AddLate has a row written when nobody waits for other rows.
func (w *Writer) AddLate(key tables.RowKey, r *tables.Record) {
	w.mu.Lock()
	known := len(w.rows.Groups)+len(w.rows.Urgent) > 0 // the writer has something to do already
	now := time.Now()
	w.came += w.rows.AddLate(w.rows.Row(key), r, now)
	if w.rows.Late > burstRows {
		w.busy = now
	}
	w.mu.Unlock()
	if !known {
		w.wake()
	}
}

// Renew changes a row that rests: most rows of a burst end that way. It is false
// if the row does not. The change is made with the lock of the rows held.
func (w *Writer) Renew(key tables.RowKey, change func(*tables.Record)) bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	r := w.rows.Resting(key)
	if r == nil {
		return false
	}
	change(r)
	w.renewed = true
	return true
}

func (w *Writer) wake() {
	select {
	case w.kick <- struct{}{}:
	default:
	}
}

// Sync waits until what was recorded is durable; with all until it is in its tables.
func (w *Writer) Sync(ctx context.Context, all bool) error {
	done := make(chan error, 1)
	w.mu.Lock()
	if w.idle(all) {
		w.mu.Unlock()
		return nil
	}
	w.waiting = append(w.waiting, waiter{done, all, w.came})
	w.mu.Unlock()
	if w.o.Stepped {
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

// Behind counts the rows that are recorded and not durable.
func (w *Writer) Behind() int64 {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.came - w.durable
}

// idle tells that there is nothing to wait for.
func (w *Writer) idle(all bool) bool {
	return w.durable == w.came && (!all || w.rows.Count() == 0) && w.rows.Late <= maxLate
}

// Close writes what is under way and ends the goroutine. If the disk does not
// allow that, it gives up after a moment and says so.
func (w *Writer) Close() error {
	w.mu.Lock()
	w.closing = true
	w.mu.Unlock()
	w.finish()
	w.closeStatements()
	w.conn.Close()
	if n := w.rows.Count(); n > 0 {
		return fmt.Errorf("the last %d records could not be written to the ledger; the next start finds the "+
			"files again", n)
	}
	return nil
}

// finish waits until all is written, or the disk has not allowed it for a while.
func (w *Writer) finish() {
	if w.o.Stepped {
		_ = w.step() // what is left is counted
		return
	}
	w.wake()
	select {
	case <-w.ended:
	case <-time.After(10 * time.Second):
		close(w.stop)
		<-w.ended
	}
}

// Abandon ends the writing as a crash would: what is under way is not written any more.
func (w *Writer) Abandon() error {
	close(w.dead)
	if w.wake(); !w.o.Stepped {
		<-w.ended
	}
	w.closeStatements()
	return w.conn.Close()
}

// Set has the writing connection do otherwise (SQLite's PRAGMA).
func (w *Writer) Set(pragma string) error {
	_, err := w.conn.ExecContext(context.Background(), `PRAGMA `+pragma)
	return err
}

// run is the writing goroutine: one commit for all that is urgent, up to a bound.
func (w *Writer) run() {
	defer close(w.ended)
	troubled := false
	for {
		select {
		case <-w.dead:
			return
		default:
		}
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
				w.o.Tell(nil)
			}
			w.tell(w.told())
			continue
		}
		never := Broken(err)
		if !troubled {
			troubled = true
			said := fmt.Errorf("the ledger cannot be written: %w", err)
			if never {
				said = w.o.Damaged(err)
			}
			w.o.Tell(said)
		}
		if never && closing {
			return
		}
		select {
		case <-time.After(time.Second):
		case <-w.stop:
			return
		case <-w.dead:
			return
		}
	}
}

// told takes out those who waited for no more than what is durable now.
func (w *Writer) told() (done []waiter) {
	w.mu.Lock()
	defer w.mu.Unlock()
	var rest []waiter
	many := w.rows.Late > maxLate && !w.closing
	for _, one := range w.waiting {
		if one.rows <= w.durable && (!one.all || len(w.rows.Groups) == 0) && !many {
			done = append(done, one)
		} else {
			rest = append(rest, one)
		}
	}
	w.waiting = rest
	return done
}

func (w *Writer) tell(done []waiter) bool {
	for _, one := range done {
		one.done <- nil
	}
	return len(done) > 0
}

// What is committed is in SQLite's log at first. It is brought from there to the
// tables' file (a checkpoint) when there is nothing else to do, since whoever waits
// for a commit would wait for that, too; amid work only when the log is long.
const (
	MaxLogPages = 4000 // of 4 KiB
	someLogRows = 500
)

// tidyLog makes a checkpoint if it is worth it and nothing is to be written.
func (w *Writer) tidyLog(wait time.Duration) {
	if wait > 0 || w.logged < someLogRows {
		return
	}
	w.logged = 0
	// One that fails, or is held up by who reads, is made good by the next.
	_, _ = w.conn.ExecContext(context.Background(), `PRAGMA wal_checkpoint(PASSIVE)`)
}

// rest waits until something is recorded, or late rows are due.
func (w *Writer) rest(wait time.Duration) {
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
