package engine

import (
	"context"
	"database/sql"
	"os"
	"path/filepath"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"stilltide/internal/core/job"
	"stilltide/internal/ledger"
)

// A power cut leaves what was committed. So no file is renamed while the ledger cannot
// commit its intention, and each is as soon as it can.
func TestNoFileIsMovedBeforeItsIntentionIsDurable(t *testing.T) {
	dir := t.TempDir()
	in := filepath.Join(dir, "in")
	require.NoError(t, os.Mkdir(in, 0o777))
	var o outcomes
	var locked, early atomic.Bool
	_, stop := runGuarded(t, dir, "rules: [{name: move, watch: in, debounce: 0s, processed: out}]\n", o.add,
		func(operation string, _ ...string) error {
			if operation == "rename" && locked.Load() {
				early.Store(true)
			}
			return nil
		})
	defer stop()
	drop(t, in, "a", 1)
	require.Eventually(t, func() bool { return o.count(job.Processed) == 1 }, time.Minute, time.Millisecond)

	db, err := sql.Open("sqlite", "file:"+filepath.Join(dir, ".stilltide", ledger.FileName)+
		"?_pragma=busy_timeout(5000)")
	require.NoError(t, err)
	defer db.Close()
	conn, err := db.Conn(context.Background())
	require.NoError(t, err)
	_, err = conn.ExecContext(context.Background(), "BEGIN IMMEDIATE")
	require.NoError(t, err)
	locked.Store(true)
	drop(t, in, "b", 20)
	require.Never(t, early.Load, 300*time.Millisecond, 5*time.Millisecond)
	locked.Store(false)
	_, err = conn.ExecContext(context.Background(), "ROLLBACK")
	require.NoError(t, err)
	require.Eventually(t, func() bool { return o.count(job.Processed) == 21 }, time.Minute, time.Millisecond)
}
