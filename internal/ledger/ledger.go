// Package ledger is the durable record of jobs, attempts and placements: one
// SQLite file in the state folder.
//
// One goroutine writes. What is recorded during a commit shares the next one, so
// thousands of files cost a handful of flushes and a single file costs one.
// Recording returns at once; callers that need a record to be durable (before a
// placement touches a file) wait for Sync. Under load, hundreds of rows become
// durable as one row of a journal, a table in the same file, and move to their
// own tables when nobody waits; by then most are out of date, so only their
// newest state is written. When the disk is full nothing is dropped: the writer
// retries until there is room, and reports it in the meantime.
//
// Any SQLite client may read the file while the watcher runs (WAL mode). The
// tables are documented in docs/operations.md.
package ledger

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"sync"
	"time"

	"stilltide/internal/commits"
	"stilltide/internal/core/job"
	"stilltide/internal/lock"
	"stilltide/internal/tables"

	_ "modernc.org/sqlite" // the driver
)

// FileName is the ledger's name in the state folder.
const FileName = "ledger.sqlite"

// applicationID marks the file as ours ("Tide"), see SQLite's PRAGMA application_id.
const applicationID = 0x54696465

var (
	// ErrBusy says that another program holds the ledger's lock.
	ErrBusy = lock.ErrBusy
	// ErrNone says that there is no ledger yet.
	ErrNone = errors.New("there is no ledger yet")
)

// Ledger is an open ledger. Use Open or Read.
type Ledger struct {
	folder string
	lock   *lock.Lock
	db     *sql.DB
	w      *commits.Writer // nil when opened for reading
	ask    *asked
	tell   func(error)

	mu      sync.Mutex
	nextID  int64
	nextPl  int64
	known   map[tables.KnownKey]*job.Known // recorded, but perhaps not yet in the file; nil for forgotten
	recent  map[string]*job.Job            // by file: the newest job of those that are perhaps not yet there
	several map[int64]*severalFiles        // those of them that have, or had, several files
	stored  map[string]string              // by a rule's name: the old one that the tables still have; for reading only
	beside  map[string]string              // the same, of what it remembers of files, if they have both
	knowing map[string]bool                // rules that may remember files; nil if that is not known
	knows   bool                           // there are some
	edits   map[string]int                 // how often they changed since the ledger was opened, by rule
	written map[string]int                 // how many of these changes went to the table
	tally   map[tables.TallyKey]int        // jobs, those included that are not yet in the file

	chained map[string]*job.Placement // by target: placed where a rule may take it, but perhaps not yet in the file
}

// Open opens the ledger for writing, making it if needed. Only one program at
// a time can: another gets an error that wraps ErrBusy. tell is called with
// each trouble that the writer has, and with nil when it is over.
func Open(folder string, tell func(error)) (*Ledger, error) { return openAs(folder, tell, false) }

// openAs is Open; a stepped ledger has no writing goroutine.
func openAs(folder string, tell func(error), stepped bool) (*Ledger, error) {
	if err := prepareFolder(folder); err != nil {
		return nil, err
	}
	held, err := lock.Acquire(folder)
	if err != nil {
		return nil, err
	}
	l := &Ledger{folder: folder, lock: held, tell: tell, ask: newAsked(), known: map[tables.KnownKey]*job.Known{},
		recent: map[string]*job.Job{}, several: map[int64]*severalFiles{}, knowing: map[string]bool{},
		chained: map[string]*job.Placement{},
		edits:   map[string]int{},
		written: map[string]int{}}
	if err := l.open(stepped); err != nil {
		if l.db != nil {
			l.db.Close()
		}
		held.Release()
		return nil, err
	}
	return l, nil
}

// Read opens an existing ledger for reading, beside the process that writes it. An
// error that wraps ErrNone says that there is none.
func Read(folder string) (*Ledger, error) {
	path := filepath.Join(folder, FileName)
	info, err := os.Stat(path)
	switch {
	case os.IsNotExist(err):
		return nil, ErrNone
	case err != nil:
		return nil, err
	case info.Size() == 0:
		if err := mustBeNew(folder); err != nil {
			return nil, err
		}
	}
	db, err := connect(path, "query_only(1)")
	if err != nil {
		return nil, err
	}
	l := &Ledger{folder: folder, db: db, ask: newAsked(), stored: map[string]string{}, beside: map[string]string{}}
	if err := l.checkVersion(); err != nil {
		db.Close()
		return nil, err
	}
	if err := l.renew(); err != nil {
		db.Close()
		return nil, err
	}
	return l, nil
}

// renew brings a ledger of an older version forward, so that it can be read,
// and one up to date that a crash has left behind. A watcher that is just
// starting may be at that already.
func (l *Ledger) renew() error {
	for patience := time.Now().Add(busyForStart); ; time.Sleep(busyForStart / 100) {
		have, parts, err := l.behind()
		if err != nil || have == tables.Version && parts == 0 {
			return err
		}
		now, err := Open(l.folder, func(error) {})
		switch {
		case err == nil:
			return now.Close()
		case !errors.Is(err, ErrBusy):
			return err
		case have == tables.Version:
			return nil // the watcher will see to it in a moment
		case time.Now().After(patience):
			return fmt.Errorf("an older stilltide is using the ledger in %s; stop it, then start this one: %w",
				l.folder, err)
		}
	}
}

// busyForStart is how long a watcher that starts may need for its tables; a ledger that is
// brought forward is rewritten. Tests shorten it.
var busyForStart = 15 * time.Second

// behind tells the ledger's version and how many parts of its journal are left.
func (l *Ledger) behind() (have, parts int, err error) {
	err = l.db.QueryRow(`PRAGMA user_version`).Scan(&have)
	if err == nil && have == tables.Version {
		err = l.db.QueryRow(`SELECT count(*) FROM journal`).Scan(&parts)
	}
	return have, parts, err
}

// Folder is the state folder.
func (l *Ledger) Folder() string { return l.folder }

// prepareFolder makes the state folder, for its owner only, and keeps it out
// of version control.
func prepareFolder(folder string) error {
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return fmt.Errorf("the state folder %s cannot be made: %w", folder, err)
	}
	if err := os.Chmod(folder, 0o700); err != nil {
		return fmt.Errorf("the state folder %s cannot be made private: %w", folder, err)
	}
	ignore := filepath.Join(folder, ".gitignore")
	if _, err := os.Stat(ignore); os.IsNotExist(err) {
		return os.WriteFile(ignore, []byte("*\n"), 0o600)
	}
	return nil
}

func connect(path string, pragmas ...string) (*sql.DB, error) {
	q := url.Values{}
	for _, p := range append([]string{"busy_timeout(5000)"}, pragmas...) {
		q.Add("_pragma", p)
	}
	return sql.Open("sqlite", "file:"+(&url.URL{Path: path}).EscapedPath()+"?"+q.Encode())
}

func (l *Ledger) open(stepped bool) error {
	path := filepath.Join(l.folder, FileName)
	if err := l.inspect(path); err != nil {
		return err
	}
	db, err := connect(path, "journal_mode(WAL)", "synchronous(FULL)", "foreign_keys(0)",
		fmt.Sprintf("wal_autocheckpoint(%d)", commits.MaxLogPages))
	if err != nil {
		return err
	}
	l.db = db
	if err := l.migrate(); err != nil {
		return err
	}
	if err := l.catchUp(); err != nil {
		return err
	}
	if err := os.Chmod(path, 0o600); err != nil {
		return err
	}
	if err := l.db.QueryRow(`SELECT coalesce(max(id), 0) + 1 FROM job`).Scan(&l.nextID); err != nil {
		return l.damaged(err)
	}
	if err := l.db.QueryRow(`SELECT value + 1 FROM counter WHERE name = 'placement'`).Scan(&l.nextPl); err != nil {
		return l.damaged(err)
	}
	knowing, err := l.Remembering()
	if err != nil {
		return err
	}
	for _, rule := range knowing {
		l.knowing[rule], l.knows = true, true
	}
	if l.tally, err = l.readTally(); err != nil {
		return err
	}
	l.w, err = commits.Start(l.db, commits.Options{Stepped: stepped, Check: l.lock.Check, Tell: l.tell,
		Damaged: l.damaged,
		Settled: l.settled, Quiet: quiet})
	if err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(l.folder, used), nil, 0o600)
}

// inspect looks at a file that is there already without changing it, so that
// one that is not ours stays as it is.
func (l *Ledger) inspect(path string) error {
	info, err := os.Stat(path)
	if err != nil {
		return nil
	}
	if info.Size() == 0 {
		return mustBeNew(l.folder)
	}
	db, err := connect(path, "query_only(1)")
	if err != nil {
		return err
	}
	defer db.Close()
	look := &Ledger{folder: l.folder, db: db}
	err = look.checkVersion()
	if err == ErrNone {
		return look.mustBeEmpty()
	}
	return err
}

// used is a file that says that the folder has had a ledger.
const used = "ledger.used"

// mustBeNew refuses an empty file in the place of a ledger that was written already: what
// it knew would be forgotten without a word. A first start that was ended by force may
// leave one.
func mustBeNew(folder string) error {
	if _, err := os.Stat(filepath.Join(folder, used)); err != nil {
		return nil
	}
	path := filepath.Join(folder, FileName)
	if log, err := os.Stat(path + "-wal"); err == nil && log.Size() > 0 {
		return nil // all of it is in the log still
	}
	return fmt.Errorf("the ledger %s is empty, and it was not before: restore it from a backup, or remove it to "+
		"begin a new one that knows no files yet", path)
}

// quiet is how long no row has come before those of a burst are written late: 0 for the usual.
// Tests have it longer.
var quiet time.Duration

// Behind counts the rows that are recorded and not durable: a wait for a commit is a wait for
// all of them.
func (l *Ledger) Behind() int { return int(l.w.Behind()) }

// ErrDamaged says that the ledger's file is broken: trying again does not help.
var ErrDamaged = errors.New("it was left as it is: move it away to begin a new one")

func (l *Ledger) damaged(err error) error {
	return fmt.Errorf("the ledger %s cannot be read (%w); %w", filepath.Join(l.folder, FileName), err, ErrDamaged)
}

// Explain says of an error of the ledger in a folder that its file is broken, if it means that.
func Explain(folder string, err error) error {
	if commits.Broken(err) && !errors.Is(err, ErrDamaged) {
		return (&Ledger{folder: folder}).damaged(err)
	}
	return err
}

// Close writes what is left and gives the lock back.
func (l *Ledger) Close() error {
	var err error
	if l.w != nil {
		err = l.w.Close()
	}
	if e := l.db.Close(); err == nil {
		err = e
	}
	if l.lock != nil {
		l.lock.Release()
	}
	return err
}

// NextID returns the number of a new job. Numbers only grow.
func (l *Ledger) NextID() int64 {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.nextID++
	return l.nextID - 1
}

// NextPlacement returns the number of a new placement. Numbers only grow.
func (l *Ledger) NextPlacement() int64 {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.nextPl++
	return l.nextPl - 1
}

// Sync waits until what was recorded before is durable, but for what may be
// late. It may be in the journal, and not yet in its tables.
func (l *Ledger) Sync(ctx context.Context) error {
	return l.w.Sync(ctx, false)
}

// Flush is for callers that read right afterwards: it waits until all that was
// recorded is in its tables. It does not wait for a disk that is full.
func (l *Ledger) Flush() error {
	return l.w.Sync(context.Background(), true)
}

// settle has the tables hold all that was recorded, for a query that the
// memory cannot answer. If the disk does not allow that, the query is answered
// by what the tables have; the writer says itself what is wrong.
func (l *Ledger) settle() {
	if l.w != nil {
		_ = l.Flush()
	}
}
