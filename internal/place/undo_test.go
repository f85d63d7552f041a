//go:build linux

package place

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/held"
	"stilltide/internal/watchfs"
)

// record keeps what a placement staged.
func record(r *Request, kind job.Kind) *Record {
	rec := &Record{Kind: kind, Source: r.Source, Before: r.Expect}
	r.Stage = func(s []Staged) error {
		rec.Target, rec.After, rec.Replaced = s[0].Target, s[0].Facts, s[0].Replaced
		if s[0].Duplicate {
			rec.Kind = job.Duplicate
		}
		if rec.Replaced {
			rec.Kept = r.Kept
		}
		return nil
	}
	return rec
}

func TestUndo(t *testing.T) {
	for _, inner := range []held.Ops{held.System{}, crossOps{}} {
		for name, there := range map[string]string{"alone": "", "numbered": "old", "replaced": "old",
			"duplicate": "new"} {
			for _, kind := range []job.Kind{job.Moved, job.Put} {
				dir := t.TempDir()
				r := request(dir, write(t, filepath.Join(dir, "in/a.txt"), "new"))
				if there != "" {
					write(t, r.To.Path(), there)
				}
				if name == "replaced" {
					r.Same = rule.SameReplace
				}
				before := all(t, dir)
				p := Placer{ops: inner}
				rec := record(&r, kind)
				act := p.Move
				if kind == job.Put {
					act = p.Copy
				}
				res, err := act(r)
				require.NoError(t, err)
				if kind == job.Put && res.Same {
					continue // nothing was done
				}
				rec.After = res.Facts
				what := name + " " + string(rec.Kind)
				require.NotEqual(t, before, all(t, dir), what)
				require.NoError(t, p.CanUndo(*rec, watchfs.LookAny), what)
				require.NoError(t, p.Undo(*rec, ".stilltide-test"), what)
				require.Equal(t, before, all(t, dir), what)
			}
		}
	}
}

func TestCanUndo(t *testing.T) {
	dir := t.TempDir()
	r := request(dir, write(t, filepath.Join(dir, "in/a.txt"), "new"))
	var p Placer
	rec := record(&r, job.Moved)
	_, err := p.Move(r)
	require.NoError(t, err)
	write(t, r.Source, "another")
	require.ErrorContains(t, p.CanUndo(*rec, watchfs.LookAny), "cannot restore "+r.Source)
	require.NoError(t, os.Remove(r.Source))
	write(t, rec.Target, "changed!")
	require.ErrorContains(t, p.CanUndo(*rec, watchfs.LookAny), "has changed since it was placed")
	require.NoError(t, os.Remove(rec.Target))
	require.ErrorContains(t, p.CanUndo(*rec, watchfs.LookAny), "is no longer there")
	rec.Kind = job.Deleted
	require.ErrorContains(t, p.CanUndo(*rec, watchfs.LookAny), "deleted for good")
}

func TestTrash(t *testing.T) {
	dir := t.TempDir()
	t.Setenv("XDG_DATA_HOME", filepath.Join(dir, "data"))
	trash := filepath.Join(dir, "data", "Trash")
	var p Placer
	path := filepath.Join(dir, "in", "a b%ü.txt")
	for n, name := range []string{"a b%ü.txt", "a b%ü-2.txt"} {
		f := write(t, path, strings.Repeat("x", n+1))
		r := Request{Source: path, Expect: f, Part: ".stilltide-test"}
		rec := record(&r, job.Trashed)
		res, err := p.Trash(r)
		require.NoError(t, err)
		require.Equal(t, filepath.Join(trash, "files", name), res.Target)
		info := read(t, filepath.Join(trash, "info", name+".trashinfo"))
		require.Regexp(t, `\A\[Trash Info\]\nPath=`+dir+
			`/in/a%20b%25%C3%BC\.txt\nDeletionDate=\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d\n\z`, info)
		require.NoFileExists(t, path)
		if n == 1 {
			require.NoError(t, p.Undo(*rec, ".stilltide-test"))
			require.Equal(t, "xx", read(t, path))
			require.NoFileExists(t, filepath.Join(trash, "info", name+".trashinfo"))
		}
	}
}

func TestDelete(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "a")
	f := write(t, path, "x")
	var p Placer
	require.ErrorIs(t, p.Delete(Request{Source: path, Expect: file.Facts{Exists: true}, Part: ".stilltide-t"}),
		job.ErrChanged)
	require.NoError(t, p.Delete(Request{Source: path, Expect: f, Part: ".stilltide-t"}))
	require.Empty(t, all(t, dir))
}

// A file that stands where another was meant is never replaced.
func TestReplaceOnlyWhatIsMeant(t *testing.T) {
	dir := t.TempDir()
	f := write(t, filepath.Join(dir, "chart.png"), "a large picture")
	write(t, filepath.Join(dir, "small"), "tiny")
	r := Request{Source: filepath.Join(dir, "small"), To: plan.SpotOf(filepath.Join(dir, "chart.png")), Expect: f,
		Part: ".stilltide-t", Kept: filepath.Join(dir, "kept")}
	var p Placer
	p.Before = func(operation string, _ ...string) error {
		if operation == "exchange" { // somebody saves in this instant
			p.Before = nil
			write(t, filepath.Join(dir, "chart.png"), "somebody's own work")
		}
		return nil
	}
	_, err := p.Replace(r)
	require.ErrorIs(t, err, job.ErrChanged)
	require.Equal(t, map[string]string{"chart.png": "somebody's own work", "small": "tiny"}, all(t, dir))
}
