package ledger

import (
	"context"
	"database/sql/driver"
)

func (w *writer) carryOut(c *commit) error {
	if err := w.l.lock.check(); err != nil {
		return err
	}
	return w.conn.Raw(func(conn any) error {
		tx, err := conn.(driver.ConnBeginTx).BeginTx(context.Background(), driver.TxOptions{})
		if err != nil {
			return err
		}
		if err = w.write(c); err == nil {
			err = tx.Commit()
		}
		if err != nil {
			_ = tx.Rollback() // there may be nothing left to take back
		}
		return err
	})
}

// exec carries out a statement. The values must be such as a driver takes
// (driver.Value).
func (w *writer) exec(s statement, values ...any) error {
	w.args = w.args[:0]
	for i, v := range values {
		w.args = append(w.args, driver.NamedValue{Ordinal: i + 1, Value: v})
	}
	_, err := w.stmts[s].ExecContext(context.Background(), w.args)
	return err
}

// write carries out the statements of a commit.
func (w *writer) write(c *commit) error {
	change := map[tallyKey]int{}
	if err := w.toTables(c, c.late, change); err != nil {
		return err
	}
	for _, g := range c.groups {
		if g.journal == 0 {
			continue
		}
		if err := w.exec(dropJournal, g.journal); err != nil {
			return err
		}
	}
	var err error
	if c.journal {
		err = c.parts(w.toJournal)
	} else {
		err = w.toTables(c, c.urgent, change)
	}
	if err != nil {
		return err
	}
	return w.sums(c.placed, change)
}

// maxKept bounds the memory that is kept for the next part of the journal.
const maxKept = 1 << 20

func (w *writer) toJournal(number int64, rows []written) error {
	statements, values, err := part(w.part[:0], rows)
	if err != nil {
		return err
	}
	if w.part = values; cap(w.part) > maxKept {
		w.part = nil
	}
	return w.exec(putJournal, number, statements, values)
}

// toTables writes rows of a commit.
func (w *writer) toTables(c *commit, list []written, change map[tallyKey]int) error {
	var values columns
	for _, one := range list {
		values = one.record.fill(values[:0])
		w.row = values.args(w.row[:0])
		if err := w.exec(one.record.statement, w.row...); err != nil {
			return err
		}
		if one.record.placement != nil {
			c.placed = max(c.placed, one.record.placement.ID)
		}
	}
	tally(list, change)
	return nil
}

// sums keeps the counter of placements and the tally of jobs.
func (w *writer) sums(placed int64, change map[tallyKey]int) error {
	if placed > w.counted {
		if err := w.exec(putCounter, placed); err != nil {
			return err
		}
	}
	for k, n := range change {
		if n == 0 {
			continue
		}
		if err := w.exec(putTally, k.rule, string(k.state), int64(n)); err != nil {
			return err
		}
	}
	return nil
}
