package ledger

import (
	"crypto/rand"
	"database/sql"
	"errors"
	"strings"

	"stilltide/internal/core/job"
	"stilltide/internal/tables"
)

// RecordTicket notes that a command is about to be handed over.
func (l *Ledger) RecordTicket(t job.Ticket) {
	l.w.AddNamed(tables.RowName{Of: tables.TicketRow, KnownKey: tables.KnownKey{Rule: t.Name}},
		&tables.Record{Statement: tables.PutTicket,
			Columns: tables.Columns{}.Text(t.Name).Num(t.Job, int64(t.Attempt), int64(t.Step)).Text(t.Pool, t.Content).
				Num(tables.Nano(t.Handed))})
}

// CloseTicket notes that no result is taken for a ticket any more.
func (l *Ledger) CloseTicket(name string) {
	l.w.AddNamed(tables.RowName{Of: tables.ClosedTicket, KnownKey: tables.KnownKey{Rule: name}},
		&tables.Record{Statement: tables.DropTicket,
			Columns: tables.Columns{}.Text(name)})
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
		t.Handed = tables.FromNano(handed)
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
	l.w.AddNamed(tables.RowName{Of: tables.IdentityRow}, &tables.Record{Statement: tables.PutIdentity,
		Columns: tables.Columns{}.Text(id)})
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
