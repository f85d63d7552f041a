package ledger

import (
	"fmt"
	"slices"
)

// migrate makes the tables or brings them forward, in one transaction.
func (l *Ledger) migrate() error {
	var have int
	if err := l.db.QueryRow(`PRAGMA user_version`).Scan(&have); err != nil {
		return l.damaged(err)
	}
	if have >= version {
		return nil
	}
	steps := migrations[have:]
	if have == 0 {
		steps = []string{tables}
	} else if have >= firstJournal {
		if err := l.catchUp(); err != nil { // its statements name the columns of that version
			return err
		}
	}
	if err := l.bringTo(version, steps); err != nil {
		return fmt.Errorf("the ledger could not be brought to schema %d, and was left as it was: %w", version, err)
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
