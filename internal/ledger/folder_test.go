package ledger

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/tables"
	"stilltide/internal/watchfs"
)

// All that is remembered of a folder follows it, byte by byte, wherever it goes; what lies beside it,
// under a name that begins as its own does, stays as it is.
func TestWhatIsRememberedFollowsTheFolder(t *testing.T) {
	base := t.TempDir()
	folders := []string{"office", "office/office", "ö\xff x", "office-2/deep/er", "off"}
	at := filepath.Join(base, "first")
	require.NoError(t, os.Mkdir(at, 0o755))
	l := open(t, filepath.Join(at, ".stilltide"))
	require.NoError(t, l.UseFolder(at))
	outside := fillWithPaths(t, l, at)
	require.NoError(t, l.Close())
	for _, name := range folders {
		next := filepath.Join(base, name)
		before := allPaths(t, filepath.Join(at, ".stilltide"))
		moving := filepath.Join(base, "moving")
		require.NoError(t, os.Rename(at, moving))
		require.NoError(t, os.MkdirAll(filepath.Dir(next), 0o755))
		require.NoError(t, os.Rename(moving, next))
		l := open(t, filepath.Join(next, ".stilltide"))
		was, moved, err := l.WasIn(next)
		require.NoError(t, err)
		require.True(t, moved)
		require.Equal(t, at, was)
		require.NoError(t, l.UseFolder(next))
		require.NoError(t, l.Close())
		after := allPaths(t, filepath.Join(next, ".stilltide"))
		for i, path := range before {
			if rest, is := strings.CutPrefix(path, at); is && (rest == "" || rest[0] == '/') {
				before[i] = next + rest
			}
		}
		require.ElementsMatch(t, before, after)
		for _, path := range outside {
			require.Contains(t, after, path)
		}
		at = next
	}
}

// fillWithPaths records paths of each kind, and returns those that lie outside.
func fillWithPaths(t *testing.T, l *Ledger, folder string) (outside []string) {
	outside = []string{folder + "-2/in/a", folder + "0", filepath.Dir(folder), "/"}
	inside := []string{folder, folder + "/in/a", folder + "/in/ü\xff\n", folder + "/in/'\"%_"}
	for n, path := range append(inside, outside...) {
		j := job.Job{ID: l.NextID(), Rule: "r", File: path, FileNow: path, OldFile: path, Watch: path,
			State: job.Queued, Event: file.Added, Taken: when, Extra: []job.Member{{File: path, FileNow: path}}}
		l.Record(j, "")
		l.RecordMembers(j)
		l.RecordPlacement(job.Placement{ID: l.NextPlacement(), Job: j.ID, Kind: job.Put, Source: path, Target: path,
			Kept: path, State: job.Done})
		l.Remember(job.Known{Rule: "r", File: path, Job: int64(n)})
		l.RecordWatched("r", path)
		l.RememberMount(path, "/")
		l.RecordPause(path, true, time.Time{})
	}
	require.NoError(t, l.Flush())
	return outside
}

// allPaths lists what the columns that hold paths have.
func allPaths(t *testing.T, folder string) (all []string) {
	l, err := Read(folder)
	require.NoError(t, err)
	defer l.Close()
	for _, c := range tables.Paths {
		rows, err := l.db.Query(fmt.Sprintf(`SELECT %s FROM %s`, c.Column, c.Table))
		require.NoError(t, err)
		for rows.Next() {
			var path string
			require.NoError(t, rows.Scan(&path))
			all = append(all, path)
		}
		require.NoError(t, rows.Err())
		require.NoError(t, rows.Close())
	}
	return all
}

// A folder that was copied to another disk with its times has the files that it had; one that differs
// by its size or time is another.
func TestFilesThatWereCopiedWithTheirFolderAreKnown(t *testing.T) {
	base := t.TempDir()
	at, next := filepath.Join(base, "at"), filepath.Join(base, "next")
	require.NoError(t, os.Mkdir(at, 0o755))
	l := open(t, filepath.Join(at, ".stilltide"))
	require.NoError(t, l.UseFolder(at))
	for _, name := range []string{"same", "longer", "later"} {
		path := filepath.Join(at, name)
		require.NoError(t, os.WriteFile(path, []byte("x"), 0o644))
		facts, err := watchfs.LookAny(path)
		require.NoError(t, err)
		l.Remember(job.Known{Rule: "r", File: path, Facts: facts, Job: 1})
	}
	require.NoError(t, l.Close())
	require.NoError(t, os.CopyFS(next, os.DirFS(at)))
	require.NoError(t, os.WriteFile(filepath.Join(next, "longer"), []byte("xx"), 0o644))
	for _, name := range []string{"same", "longer"} {
		info, err := os.Stat(filepath.Join(at, name))
		require.NoError(t, err)
		require.NoError(t, os.Chtimes(filepath.Join(next, name), info.ModTime(), info.ModTime()))
	}
	require.NoError(t, os.Chtimes(filepath.Join(next, "later"), when, when))
	l = open(t, filepath.Join(next, ".stilltide"))
	require.NoError(t, l.UseFolder(next))
	for name, same := range map[string]bool{"same": true, "longer": false, "later": false} {
		facts, err := watchfs.LookAny(filepath.Join(next, name))
		require.NoError(t, err)
		k, is, err := l.Known("r", filepath.Join(next, name))
		require.NoError(t, err)
		require.True(t, is)
		require.Equal(t, same, k.Facts.Same(facts), name)
	}
	require.NoError(t, l.Close())
}

// A ledger that does not lie in the folder of the rules file follows nothing.
func TestALedgerElsewhereStaysAsItIs(t *testing.T) {
	dir := t.TempDir()
	l := open(t, filepath.Join(dir, "state"))
	l.Remember(job.Known{Rule: "r", File: dir + "/rules/in/a", Job: 1})
	require.NoError(t, l.UseFolder(dir+"/rules"))
	require.NoError(t, l.UseFolder(dir+"/other"))
	_, moved, err := l.WasIn(dir + "/other")
	require.NoError(t, err)
	require.False(t, moved)
	_, is, err := l.Known("r", dir+"/rules/in/a")
	require.NoError(t, err)
	require.True(t, is)
	require.NoError(t, l.Close())
}

// The rules file is noted as it is seen from the ledger's folder, so that both may go elsewhere together.
func TestTheRulesFileIsNoted(t *testing.T) {
	dir := t.TempDir()
	noted := func(l *Ledger, want string) {
		t.Helper()
		last, err := l.LastRules()
		require.NoError(t, err)
		require.Equal(t, want, last)
	}
	l := open(t, filepath.Join(dir, "state"))
	noted(l, "")
	require.NoError(t, l.UseRules(filepath.Join(dir, "rules.yaml")))
	noted(l, filepath.Join(dir, "rules.yaml"))
	require.NoError(t, l.UseRules(filepath.Join(dir, "other.yaml")))
	noted(l, filepath.Join(dir, "other.yaml"))
	require.NoError(t, l.Close())

	moved := filepath.Join(t.TempDir(), "moved")
	require.NoError(t, os.CopyFS(moved, os.DirFS(dir)))
	l = open(t, filepath.Join(moved, "state"))
	noted(l, filepath.Join(moved, "other.yaml"))
	require.NoError(t, l.Close())
}
