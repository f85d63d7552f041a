package commits

import (
	"context"
	"database/sql/driver"
	"errors"

	"stilltide/internal/tables"
)

func (w *Writer) carryOut(c *commit) error {
	if err := w.o.Check(); err != nil {
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
func (w *Writer) exec(s tables.Statement, values ...any) error {
	w.args = w.args[:0]
	for i, v := range values {
		w.args = append(w.args, driver.NamedValue{Ordinal: i + 1, Value: v})
	}
	_, err := w.stmts[s].ExecContext(context.Background(), w.args)
	return err
}

// write carries out the statements of a commit.
func (w *Writer) write(c *commit) error {
	change := map[tables.TallyKey]int{}
	if err := w.toTables(c, c.late, change); err != nil {
		return err
	}
	for _, g := range c.groups {
		if g.Journal == 0 {
			continue
		}
		if err := w.exec(tables.DropJournal, g.Journal); err != nil {
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

func (w *Writer) toJournal(number int64, rows []tables.Written) error {
	statements, values, err := tables.EncodePart(w.part[:0], rows)
	if err != nil {
		return err
	}
	if w.part = values; cap(w.part) > maxKept {
		w.part = nil
	}
	return w.exec(tables.PutJournal, number, statements, values)
}

// toTables writes rows of a commit.
func (w *Writer) toTables(c *commit, list []tables.Written, change map[tables.TallyKey]int) error {
	var values tables.Columns
	for _, one := range list {
		values = one.Record.Fill(values[:0])
		w.row = values.Args(w.row[:0])
		if err := w.exec(one.Record.Statement, w.row...); err != nil {
			return err
		}
		if one.Record.Placement != nil {
			c.placed = max(c.placed, one.Record.Placement.ID)
		}
	}
	tables.Count(list, change)
	return nil
}

// sums keeps the counter of placements and the tally of jobs.
func (w *Writer) sums(placed int64, change map[tables.TallyKey]int) error {
	if placed > w.counted {
		if err := w.exec(tables.PutCounter, placed); err != nil {
			return err
		}
	}
	for k, n := range change {
		if n == 0 {
			continue
		}
		if err := w.exec(tables.PutTally, k.Rule, string(k.State), int64(n)); err != nil {
			return err
		}
	}
	return nil
}

// Broken reports whether an error says that the file is not, or not whole, a database
// (SQLITE_CORRUPT, SQLITE_NOTADB).
func Broken(err error) bool {
	var coded interface{ Code() int }
	return errors.As(err, &coded) && (coded.Code()&0xff == 11 || coded.Code()&0xff == 26)
}
