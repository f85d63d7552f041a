package ledger

import (
	"crypto/rand"
	"database/sql"
	"errors"
	"strings"

	"stilltide/internal/core/job"
)

// RecordTicket notes that a command is about to be handed over.
func (l *Ledger) RecordTicket(t job.Ticket) {
	l.w.addNamed(rowName{ticketRow, knownKey{rule: t.Name}}, &record{statement: putTicket,
		columns: columns{}.text(t.Name).num(t.Job, int64(t.Attempt), int64(t.Step)).text(t.Pool, t.Content).
			num(nano(t.Handed))})
}

// CloseTicket notes that no result is taken for a ticket any more.
func (l *Ledger) CloseTicket(name string) {
	l.w.addNamed(rowName{closedTicket, knownKey{rule: name}}, &record{statement: dropTicket,
		columns: columns{}.text(name)})
}

// Tickets lists the open ones.
func (l *Ledger) Tickets() (list []job.Ticket, err error) {
	if err := l.Flush(); err != nil {
		return nil, err
	}
	rows, err := l.db.Query(`SELECT ticket, job, attempt, step, pool, content, handed_at FROM ticket ORDER BY job, attempt`)
	if err != nil {
		return nil, l.damaged(err)
	}
	defer rows.Close()
	for rows.Next() {
		var t job.Ticket
		var handed int64
		if err := rows.Scan(&t.Name, &t.Job, &t.Attempt, &t.Step, &t.Pool, &t.Content, &handed); err != nil {
			return nil, l.damaged(err)
		}
		t.Handed = fromNano(handed)
		list = append(list, t)
	}
	return list, rows.Err()
}

// Identity is the ledger's name among those that use the same engine. It is made at the
// first call: letters and digits.
func (l *Ledger) Identity() (id string, err error) {
	if err := l.Flush(); err != nil {
		return "", err
	}
	err = l.db.QueryRow(`SELECT id FROM identity`).Scan(&id)
	if !errors.Is(err, sql.ErrNoRows) {
		return id, err
	}
	id = strings.ToLower(rand.Text()[:12])
	l.w.addNamed(rowName{of: identityRow}, &record{statement: putIdentity, columns: columns{}.text(id)})
	return id, l.Flush()
}

// KnownIdentity is Identity for those who only read: "" if it was not made yet.
func (l *Ledger) KnownIdentity() (id string, err error) {
	err = l.db.QueryRow(`SELECT id FROM identity`).Scan(&id)
	if errors.Is(err, sql.ErrNoRows) {
		return "", nil
	}
	return id, err
}
