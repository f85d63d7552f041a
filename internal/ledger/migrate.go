package ledger

import (
	"fmt"
	"path/filepath"
	"slices"

	"stilltide/internal/tables"
)

// migrate makes the tables or brings them forward, in one transaction.
func (l *Ledger) migrate() error {
	var have int
	if err := l.db.QueryRow(`PRAGMA user_version`).Scan(&have); err != nil {
		return l.damaged(err)
	}
	if have >= tables.Version {
		return nil
	}
	steps := tables.Migrations[have:]
	if have == 0 {
		steps = []string{tables.Schema}
	} else if have >= tables.FirstJournal {
		if err := l.catchUp(); err != nil { // its statements name the columns of that version
			return err
		}
	}
	if err := l.bringTo(tables.Version, steps); err != nil {
		return fmt.Errorf("the ledger could not be brought to schema %d, and was left as it was: %w", tables.Version,
			err)
	}
	return nil
}

func (l *Ledger) bringTo(to int, steps []string) error {
	tx, err := l.db.Begin()
	if err != nil {
		return err
	}
	defer tx.Rollback() // does nothing after the commit
	for _, q := range append(slices.Clip(steps),
		fmt.Sprintf(`PRAGMA user_version = %d`, to),
		fmt.Sprintf(`PRAGMA application_id = %d`, applicationID)) {
		if _, err := tx.Exec(q); err != nil {
			return err
		}
	}
	return tx.Commit()
}

func (l *Ledger) checkVersion() error {
	path := filepath.Join(l.folder, FileName)
	var have, id int
	if err := l.db.QueryRow(`PRAGMA user_version`).Scan(&have); err != nil {
		return l.damaged(err)
	}
	if err := l.db.QueryRow(`PRAGMA application_id`).Scan(&id); err != nil {
		return l.damaged(err)
	}
	switch {
	case have == 0 && id == 0:
		return ErrNone
	case id != applicationID:
		return fmt.Errorf("%s is not a ledger of stilltide; it was left as it is: name another folder in "+
			"state_folder", path)
	case have > tables.Version:
		return fmt.Errorf("the ledger %s was written by a newer stilltide (schema %d, this program knows %d); "+
			"use that one", path, have, tables.Version)
	}
	return nil
}

// mustBeEmpty fails if another program's tables are in the file.
func (l *Ledger) mustBeEmpty() error {
	var tables int
	if err := l.db.QueryRow(`SELECT count(*) FROM sqlite_schema`).Scan(&tables); err != nil {
		return l.damaged(err)
	}
	if tables > 0 {
		return fmt.Errorf("%s is not a ledger of stilltide; it was left as it is: name another folder in "+
			"state_folder", filepath.Join(l.folder, FileName))
	}
	return nil
}
