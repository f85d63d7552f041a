package ledger

import (
	"database/sql"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
)

// The journal makes many rows durable for the price of one. A part of it, a
// row of the table journal, holds the statements that it needs, as a JSON list of
// their texts by number, and the values: for each row that is to be written the
// number of its statement, how many values there are, and each value as its kind
// (0 nothing, 1 a whole number, 2 a text) and what it is: a zigzag varint, or a
// varint of the length and the bytes. (Varints as in Go's encoding/binary.) The
// rows go to their tables at leisure, and the part is then deleted; what a crash
// leaves is written when the ledger is opened next.

// part adds rows to what a part of the journal holds.
func part(rows []byte, list []written) (statements string, _ []byte, err error) {
	used := map[statement]string{}
	var c columns
	for _, w := range list {
		s := w.record.statement
		if used[s] == "" {
			used[s] = sqlOf[s]
		}
		c = w.record.fill(c[:0])
		rows = append(rows, byte(s), byte(len(c)))
		for _, v := range c {
			rows = v.encode(rows)
		}
	}
	text, err := json.Marshal(used)
	return string(text), rows, err
}

func (v column) encode(to []byte) []byte {
	to = append(to, byte(v.kind))
	switch v.kind {
	case number:
		return binary.AppendVarint(to, v.n)
	case text:
		return append(binary.AppendUvarint(to, uint64(len(v.s))), v.s...)
	}
	return to
}

var errPart = errors.New("a part of its journal is damaged")

// partReader reads what part has written.
type partReader struct{ left []byte }

func (p *partReader) next() (s statement, c columns, err error) {
	if len(p.left) < 2 {
		return 0, nil, errPart
	}
	s, n := statement(p.left[0]), int(p.left[1])
	p.left = p.left[2:]
	for range n {
		v, err := p.column()
		if err != nil {
			return 0, nil, err
		}
		c = append(c, v)
	}
	return s, c, nil
}

func (p *partReader) column() (v column, err error) {
	if len(p.left) == 0 {
		return v, errPart
	}
	v.kind, p.left = columnKind(p.left[0]), p.left[1:]
	switch v.kind {
	case nothing:
	case number:
		n, size := binary.Varint(p.left)
		if size <= 0 {
			return v, errPart
		}
		v.n, p.left = n, p.left[size:]
	case text:
		n, size := binary.Uvarint(p.left)
		if size <= 0 || n > uint64(len(p.left)-size) {
			return v, errPart
		}
		v.s, p.left = string(p.left[size:size+int(n)]), p.left[size+int(n):]
	default:
		return v, errPart
	}
	return v, nil
}

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
		if err := l.catchUpPart(id, statements, rows); errors.Is(err, errPart) {
			return l.damaged(err)
		} else if err != nil {
			return fmt.Errorf("the ledger could not take in what its journal holds, and was left as it was: %w",
				err)
		}
	}
}

func (l *Ledger) catchUpPart(id int64, statements, rows []byte) error {
	var texts map[statement]string
	if err := json.Unmarshal(statements, &texts); err != nil {
		return errPart
	}
	tx, err := l.db.Begin()
	if err != nil {
		return err
	}
	defer tx.Rollback() // does nothing after the commit
	left := partReader{rows}
	for len(left.left) > 0 {
		s, c, err := left.next()
		if err != nil || texts[s] == "" {
			return errPart
		}
		if s == putJob || s == putTriedJob {
			err = recount(tx, c)
		} else if s == putPlacement {
			_, err = tx.Exec(sqlOf[putCounter], c[1].n)
		}
		if err != nil {
			return err
		}
		if _, err := tx.Exec(texts[s], c.args(nil)...); err != nil {
			return err
		}
	}
	if _, err := tx.Exec(sqlOf[dropJournal], id); err != nil {
		return err
	}
	return tx.Commit()
}

// recount keeps the tally right for a job that is about to be written.
func recount(tx *sql.Tx, job columns) error {
	if len(job) <= jobState {
		return errPart
	}
	id, rule, state := job[0].n, job[1].s, job[jobState].s
	var wasRule, was string
	err := tx.QueryRow(`SELECT rule, state FROM job WHERE id = ?`, id).Scan(&wasRule, &was)
	if err == nil {
		_, err = tx.Exec(sqlOf[putTally], wasRule, was, int64(-1))
	} else if err == sql.ErrNoRows {
		err = nil
	}
	if err == nil {
		_, err = tx.Exec(sqlOf[putTally], rule, state, int64(1))
	}
	return err
}
