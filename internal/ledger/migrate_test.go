package ledger

import (
	"fmt"
	"path/filepath"
	"testing"

	"stilltide/internal/core/job"
	"stilltide/internal/tables"

	"github.com/stretchr/testify/require"
)

// A ledger with the columns, states and kinds of schema 6, and with rows in its journal
// whose statements name those columns, is brought forward whole.
func TestOldNamesBecomeNewOnes(t *testing.T) {
	folder := t.TempDir()
	db, err := connect(filepath.Join(folder, FileName), "journal_mode(WAL)")
	require.NoError(t, err)
	require.NoError(t, (&Ledger{folder: folder, db: db}).bringTo(6, tables.Migrations[:6]))
	const undone = "it was undone: its files are back where they came from"
	for i, q := range []string{
		`INSERT INTO job (id, rule, file, watch, state, event, size, mod, dev, ino, taken, started, ended, exit, reason, ends_in, seen, last, last_started, last_ended, last_exit)
			VALUES (1, 'r', '/in/a', '/in', 'gone', 'added', 3, 5, 1, 2, 4, 5, 6, NULL, '', NULL, 3, 1, 5000000000, 7000000000, 65)`,
		`INSERT INTO job (id, rule, file, watch, state, event, size, mod, dev, ino, taken, ended, reason, ends_in) VALUES (2, 'r', '/in/b', '/in', 'processed', 'added', 3, 5, 1, 2, 4, 6, '` + undone + `', '/in/b')`,
		`INSERT INTO job (id, rule, file, watch, state, event, size, mod, dev, ino, dir, taken, due) VALUES (3, 'r', '/in/c', '/in', 'waiting', 'added', 3, 5, 1, 2, 1, 4, 9)`,
		`INSERT INTO tally VALUES ('r', 'gone', 1), ('r', 'processed', 1), ('r', 'waiting', 1)`,
		`INSERT INTO placement (job, id, attempt, kind, source, target, dir, dev, ino, size, mod, change, after_dev, after_ino, after_size, after_mod, over, kept, chained, state, leads, mode)
			VALUES (2, 7, 1, 'twin', '/in/b', '/out/b', 0, 1, 2, 3, 5, 5, 1, 9, 3, 5, 1, '/kept', 1, 'done', 'gone', 420)`,
		`INSERT INTO member (job, number, file, companion, size, mod, dev, ino, ends_in) VALUES (2, 0, '/in/b.ok', 1, 1, 5, 1, 3, '/out/b.ok')`,
		`INSERT INTO known (rule, file, size, mod, dev, ino, dir, job) VALUES ('r', '/in/k', 3, 5, 1, 2, 0, 1)`,
	} {
		_, err := db.Exec(q)
		require.NoError(t, err, i)
	}
	late := tables.Columns{}.Text("r", "/in/late").Num(3, 5, 1, 2, 0).Text("").Num(1)
	rows := []byte{byte(tables.PutKnown), byte(len(late))}
	for _, c := range late {
		rows = c.Encode(rows)
	}
	_, err = db.Exec(`INSERT INTO journal (id, statements, rows) VALUES (1, ?, ?)`,
		fmt.Sprintf(`{"%d": "INSERT INTO known (rule, file, size, mod, dev, ino, dir, hash, job) VALUES (?,?,?,?,?,?,?,?,?)"}`, tables.PutKnown), rows)
	require.NoError(t, err)
	require.NoError(t, db.Close())

	l, err := Open(folder, func(error) {})
	require.NoError(t, err)
	defer l.Close()
	jobs, err := l.Jobs(job.Filter{Oldest: true})
	require.NoError(t, err)
	require.Len(t, jobs, 3)
	require.Equal(t, []job.State{job.Vanished, job.Reverted, job.Settling}, []job.State{jobs[0].State, jobs[1].State,
		jobs[2].State})
	require.Equal(t, "/in/b", jobs[1].FileNow)
	require.True(t, jobs[2].Facts.Dir)
	require.Equal(t, 65, *jobs[0].Last.Exit)
	tally, err := l.Tally()
	require.NoError(t, err)
	require.Equal(t, map[job.State]int{job.Vanished: 1, job.Processed: 0, job.Reverted: 1, job.Settling: 1}, tally["r"])
	placed, err := l.Placements(2)
	require.NoError(t, err)
	require.Equal(t, job.Duplicate, placed[0].Kind)
	require.Equal(t, job.Vanished, placed[0].FinalState)
	require.True(t, placed[0].Replaced)
	for _, path := range []string{"/in/k", "/in/late"} {
		_, ok, err := l.Known("r", path)
		require.NoError(t, err)
		require.True(t, ok, path)
	}
	var state, ended string
	var ran float64
	require.NoError(t, l.db.QueryRow(`SELECT state FROM jobs WHERE id = 3`).Scan(&state))
	require.Equal(t, "settling", state)
	require.NoError(t, l.db.QueryRow(`SELECT ended_at, ran_s FROM attempts WHERE job = 1`).Scan(&ended, &ran))
	require.Regexp(t, `^19(69|70)-\d\d-\d\d \d\d:\d\d:07$`, ended)
	require.InDelta(t, 2.0, ran, 0.001)
}
