package ledger

import (
	"database/sql"
	"errors"
	"path/filepath"
	"strings"

	"stilltide/internal/tables"
	"stilltide/internal/watchfs"
)

// UseFolder has what is remembered of the files below the folder of the rules file follow that
// folder, if it was moved or copied together with the ledger in it. The ledger must be open for
// writing, and nothing may be recorded meanwhile.
func (l *Ledger) UseFolder(folder string) error {
	if !l.isIn(folder) {
		return nil
	}
	if err := l.Flush(); err != nil {
		return err
	}
	old, err := l.lastFolder()
	if err != nil || old == folder {
		return err
	}
	if err := l.follow(old, folder); err != nil {
		return l.damaged(err)
	}
	return nil
}

// WasIn reports the folder of the rules file in which the ledger was used last, if that was another.
func (l *Ledger) WasIn(folder string) (old string, moved bool, err error) {
	if !l.isIn(folder) {
		return "", false, nil
	}
	old, err = l.lastFolder()
	return old, old != "" && old != folder, err
}

// isIn reports whether the ledger lies below a folder, and goes where that goes.
func (l *Ledger) isIn(folder string) bool {
	rel, err := filepath.Rel(folder, l.folder)
	return err == nil && filepath.IsLocal(rel)
}

// lastFolder is the folder of the rules file in which the ledger was used last, "" if none is noted.
func (l *Ledger) lastFolder() (folder string, err error) {
	err = l.db.QueryRow(`SELECT folder FROM folder`).Scan(&folder)
	if errors.Is(err, sql.ErrNoRows) {
		return "", nil
	}
	return folder, err
}

// follow notes the folder, and rewrites all paths below the old one.
func (l *Ledger) follow(old, folder string) error {
	tx, err := l.db.Begin()
	if err != nil {
		return err
	}
	defer tx.Rollback() // does nothing after the commit
	if old != "" {
		err = rewritePaths(tx, old, folder)
	}
	if err != nil {
		return err
	}
	if _, err := tx.Exec(`INSERT INTO folder VALUES (1, ?1) ON CONFLICT (one) DO UPDATE SET folder = ?1`,
		folder); err != nil {
		return err
	}
	return tx.Commit()
}

// What lies below a folder begins with its path and the first of these, and sorts before the second.
const (
	below = string(filepath.Separator)
	after = string(filepath.Separator + 1)
)

func rewritePaths(tx *sql.Tx, old, folder string) error {
	for _, c := range tables.Paths { // as bytes, since a name need not be UTF-8
		change := strings.ReplaceAll(`UPDATE OR REPLACE `+c.Table+` SET @ = ?1 || substr(CAST(@ AS BLOB), ?2)
			WHERE @ = ?3 OR @ >= ?3 || ?4 AND @ < ?3 || ?5`, "@", c.Column)
		if _, err := tx.Exec(change, folder, len(old)+1, old, below, after); err != nil {
			return err
		}
	}
	return knowAgain(tx, folder)
}

// knowAgain gives files that were copied to another file system, with their times, their new
// device and inode: they are the same.
func knowAgain(tx *sql.Tx, folder string) error {
	rows, err := tx.Query(`SELECT rule, file, size, mtime, dev, ino FROM known
		WHERE file >= ?1 || ?2 AND file < ?1 || ?3`, folder, below, after)
	if err != nil {
		return err
	}
	defer rows.Close()
	type moved struct {
		rule, file string
		dev, ino   int64
	}
	var list []moved
	for rows.Next() {
		var k moved
		var size, mod int64
		if err := rows.Scan(&k.rule, &k.file, &size, &mod, &k.dev, &k.ino); err != nil {
			return err
		}
		facts, err := watchfs.LookAny(k.file)
		if err != nil || facts.Size != size || int64(facts.Mod) != mod {
			continue
		}
		if dev, ino := int64(facts.Dev), int64(facts.Ino); dev != k.dev || ino != k.ino {
			list = append(list, moved{k.rule, k.file, dev, ino})
		}
	}
	if err := rows.Err(); err != nil {
		return err
	}
	for _, k := range list {
		if _, err := tx.Exec(`UPDATE known SET dev = ?, ino = ? WHERE rule = ? AND file = ?`, k.dev, k.ino, k.rule,
			k.file); err != nil {
			return err
		}
	}
	return nil
}
