package engine

import (
	"bytes"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"stilltide/internal/ledger"
)

// A power cut leaves what was committed. So no file is renamed before a reader of its own
// finds the intention in the ledger's file, in its table or in the journal.
func TestNoFileIsMovedBeforeItsIntentionIsDurable(t *testing.T) {
	const files = 60
	dir := t.TempDir()
	in := filepath.Join(dir, "in")
	require.NoError(t, os.Mkdir(in, 0o777))
	var o outcomes
	renamed := 0
	_, stop := runGuarded(t, dir, "rules: [{name: move, watch: in, debounce: 0s, processed: out}]\n", o.add, func(operation string, paths ...string) error {
		if operation != "rename" || filepath.Dir(paths[0]) != in {
			return nil
		}
		renamed++
		return intended(dir, paths[1])
	})
	for i := range files { // alone, and in a burst
		require.NoError(t, os.WriteFile(filepath.Join(in, fmt.Sprintf("f%02d", i)), nil, 0o666))
		if i < files/2 {
			require.Eventually(t, func() bool { return o.count(ledger.Processed)+o.count(ledger.Failed) > i }, time.Minute, time.Millisecond)
		}
	}
	require.Eventually(t, func() bool { return o.count(ledger.Processed)+o.count(ledger.Failed) == files }, time.Minute, time.Millisecond)
	stop()
	require.Equal(t, files, o.count(ledger.Processed), o.list)
	require.GreaterOrEqual(t, renamed, files)
}

// intended returns an error if the ledger's file says nothing of a placement at a path.
func intended(dir, target string) error {
	db, err := sql.Open("sqlite", "file:"+filepath.Join(dir, ".stilltide", ledger.FileName)+"?mode=ro")
	if err != nil {
		return err
	}
	defer db.Close()
	rows, err := db.Query(`SELECT target FROM placement WHERE state = 'intended' UNION ALL SELECT rows FROM journal`)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var text []byte
		if err := rows.Scan(&text); err != nil {
			return err
		}
		if bytes.Contains(text, []byte(target)) {
			return nil
		}
	}
	return errors.Join(fmt.Errorf("nothing is durable about %s", target), rows.Err())
}
