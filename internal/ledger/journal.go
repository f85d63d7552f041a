package ledger

import (
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"

	"stilltide/internal/tables"
)

// catchUp writes what a crash has left in the journal.
func (l *Ledger) catchUp() error {
	for {
		var id int64
		var statements, rows []byte
		err := l.db.QueryRow(`SELECT id, statements, rows FROM journal ORDER BY id LIMIT 1`).Scan(&id, &statements,
			&rows)
		if err == sql.ErrNoRows {
			return nil
		}
		if err != nil {
			return l.damaged(err)
		}
		if err := l.catchUpPart(id, statements, rows); errors.Is(err, tables.ErrPart) {
			return l.damaged(err)
		} else if err != nil {
			return fmt.Errorf("the ledger could not take in what its journal holds, and was left as it was: %w",
				err)
		}
	}
}

func (l *Ledger) catchUpPart(id int64, statements, rows []byte) error {
	var texts map[tables.Statement]string
	if err := json.Unmarshal(statements, &texts); err != nil {
		return tables.ErrPart
	}
	tx, err := l.db.Begin()
	if err != nil {
		return err
	}
	defer tx.Rollback() // does nothing after the commit
	left := tables.PartReader{Left: rows}
	for len(left.Left) > 0 {
		s, c, err := left.Next()
		if err != nil || texts[s] == "" {
			return tables.ErrPart
		}
		if s == tables.PutJob || s == tables.PutTriedJob {
			err = recount(tx, c)
		} else if s == tables.PutPlacement {
			_, err = tx.Exec(tables.SQL[tables.PutCounter], c[1].Num)
		}
		if err != nil {
			return err
		}
		if _, err := tx.Exec(texts[s], c.Args(nil)...); err != nil {
			return err
		}
	}
	if _, err := tx.Exec(tables.SQL[tables.DropJournal], id); err != nil {
		return err
	}
	return tx.Commit()
}

// recount keeps the tally right for a job that is about to be written.
func recount(tx *sql.Tx, job tables.Columns) error {
	if len(job) <= tables.JobState {
		return tables.ErrPart
	}
	id, rule, state := job[0].Num, job[1].Text, job[tables.JobState].Text
	var wasRule, was string
	err := tx.QueryRow(`SELECT rule, state FROM job WHERE id = ?`, id).Scan(&wasRule, &was)
	if err == nil {
		_, err = tx.Exec(tables.SQL[tables.PutTally], wasRule, was, int64(-1))
	} else if err == sql.ErrNoRows {
		err = nil
	}
	if err == nil {
		_, err = tx.Exec(tables.SQL[tables.PutTally], rule, state, int64(1))
	}
	return err
}
