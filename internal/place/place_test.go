//go:build linux

package place

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"stilltide/internal/core/file"
	"stilltide/internal/watchfs"
)

func write(t *testing.T, path, content string) file.Facts {
	t.Helper()
	require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o777))
	require.NoError(t, os.WriteFile(path, []byte(content), 0o640))
	f, err := watchfs.Stat(path)
	require.NoError(t, err)
	return f
}

func read(t *testing.T, path string) string {
	t.Helper()
	b, err := os.ReadFile(path)
	require.NoError(t, err)
	return string(b)
}

// all lists every file below a folder with its content, hidden ones too.
func all(t *testing.T, dir string) map[string]string {
	t.Helper()
	found := map[string]string{}
	require.NoError(t, filepath.WalkDir(dir, func(p string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			rel, _ := filepath.Rel(dir, p)
			found[rel] = read(t, p)
		}
		return err
	}))
	return found
}

func request(dir string, f file.Facts) Request {
	return Request{Source: filepath.Join(dir, "in", "a.txt"), Folder: filepath.Join(dir, "out", "deep"), Name: "a.txt", Expect: f, Part: ".tide-test"}
}

func TestMove(t *testing.T) {
	dir := t.TempDir()
	var p Placer
	r := request(dir, write(t, filepath.Join(dir, "in/a.txt"), "one"))
	res, err := p.Move(r)
	require.NoError(t, err)
	require.Equal(t, filepath.Join(dir, "out/deep/a.txt"), res.Target)

	r.Expect = write(t, r.Source, "two")
	res, err = p.Move(r)
	require.NoError(t, err)
	require.Equal(t, "a-2.txt", filepath.Base(res.Target), "other content under the same name is numbered")

	r.Expect = write(t, r.Source, "two")
	res, err = p.Move(r)
	require.NoError(t, err)
	require.True(t, res.Same, "the same content is not stored twice")
	require.Equal(t, "a-2.txt", filepath.Base(res.Target))
	require.Equal(t, map[string]string{"out/deep/a.txt": "one", "out/deep/a-2.txt": "two"}, all(t, dir))

	_, err = p.Move(r)
	require.ErrorIs(t, err, ErrGone)
	write(t, r.Source, "three")
	_, err = p.Move(r)
	require.ErrorIs(t, err, ErrChanged)
	require.Equal(t, "three", read(t, r.Source))
}

// crossOps behaves as if source and target were on different file systems.
type crossOps struct{ realOps }

func (c crossOps) Rename(from, to string) error {
	if filepath.Dir(from) != filepath.Dir(to) {
		return &os.LinkError{Op: "rename", Old: from, New: to, Err: unix.EXDEV}
	}
	return c.realOps.Rename(from, to)
}

func TestMoveAcross(t *testing.T) {
	dir := t.TempDir()
	p := Placer{ops: crossOps{}}
	write(t, filepath.Join(dir, "in/a.txt"), "one")
	when := time.Date(2031, 4, 2, 1, 2, 3, 4000, time.UTC)
	require.NoError(t, os.Chtimes(filepath.Join(dir, "in/a.txt"), when, when))
	_ = unix.Setxattr(filepath.Join(dir, "in/a.txt"), "user.xdg.tags", []byte("chart"), 0)
	f, err := watchfs.Stat(filepath.Join(dir, "in/a.txt"))
	require.NoError(t, err)
	res, err := p.Move(request(dir, f))
	require.NoError(t, err)
	info, err := os.Stat(res.Target)
	require.NoError(t, err)
	require.True(t, info.ModTime().Equal(when))
	require.Equal(t, fs.FileMode(0o640), info.Mode().Perm())
	value := make([]byte, 20)
	if n, err := unix.Getxattr(res.Target, "user.xdg.tags", value); err == nil {
		require.Equal(t, "chart", string(value[:n]))
	}
	require.Equal(t, map[string]string{"out/deep/a.txt": "one"}, all(t, dir))
}

// Whatever operation fails, with whatever error: the content is whole in
// exactly one place, and no part-file remains.
func TestEveryFaultLeavesTheFileWhole(t *testing.T) {
	faults := []error{unix.ENOSPC, unix.EACCES, unix.EROFS, unix.ENAMETOOLONG, unix.EIO, unix.EPERM, unix.EDQUOT}
	for name, inner := range map[string]ops{"rename": realOps{}, "across": crossOps{}} {
		for _, fault := range faults {
			for at := 1; ; at++ {
				dir := t.TempDir()
				r := request(dir, write(t, filepath.Join(dir, "in/a.txt"), "one"))
				count, log := 0, []string{}
				p := Placer{ops: inner, Before: func(operation string, _ ...string) error {
					count++
					log = append(log, operation)
					if count == at {
						if operation == "copy" { // one that stopped half-way
							require.NoError(t, os.WriteFile(filepath.Join(r.Folder, r.Part), []byte("on"), 0o600))
						}
						return &os.PathError{Op: operation, Path: "the-file", Err: fault}
					}
					return nil
				}}
				res, err := p.Move(r)
				what := fmt.Sprintf("%s, %v at operation %d of %s", name, fault, at, strings.Join(log, " "))
				if count < at { // nothing failed any more
					require.NoError(t, err, what)
					break
				}
				files := all(t, dir)
				require.Len(t, files, 1, what)
				for path, content := range files {
					require.Equal(t, "one", content, what)
					if err == nil {
						require.Equal(t, "out/deep/a.txt", path, what)
					}
				}
				if err != nil {
					require.ErrorIs(t, err, fault, what)
					require.Contains(t, err.Error(), "the-file", what)
				} else {
					require.NotEmpty(t, res.Target)
				}
			}
		}
	}
}

// swapOps puts a stranger in the source's place right before the rename.
type swapOps struct {
	realOps
	swap func()
}

func (s swapOps) Rename(from, to string) error {
	if s.swap != nil && strings.Contains(from, "/in/") {
		s.swap()
	}
	return s.realOps.Rename(from, to)
}

func TestAStrangerIsPutBack(t *testing.T) {
	dir := t.TempDir()
	src := filepath.Join(dir, "in/a.txt")
	r := request(dir, write(t, src, "mine"))
	require.NoError(t, os.MkdirAll(r.Folder, 0o777))
	done := false
	p := Placer{ops: swapOps{swap: func() {
		if !done {
			done = true
			require.NoError(t, os.Rename(src, src+".old"))
			write(t, src, "stranger")
		}
	}}}
	_, err := p.Move(r)
	require.ErrorIs(t, err, ErrChanged)
	require.Equal(t, map[string]string{"in/a.txt": "stranger", "in/a.txt.old": "mine"}, all(t, dir))
}

func TestLinksAreNotMovedAsFiles(t *testing.T) {
	dir := t.TempDir()
	target := filepath.Join(dir, "secret")
	f := write(t, target, "x")
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "in"), 0o777))
	require.NoError(t, os.Symlink(target, filepath.Join(dir, "in/a.txt")))
	var p Placer
	_, err := p.Move(request(dir, f))
	require.ErrorIs(t, err, ErrChanged)
}

func TestWriteNew(t *testing.T) {
	dir := t.TempDir()
	var p Placer
	first, err := p.WriteNew(dir, "note.txt", ".tide-n", []byte("1"))
	require.NoError(t, err)
	second, err := p.WriteNew(dir, "note.txt", ".tide-n", []byte("2"))
	require.NoError(t, err)
	require.Equal(t, "note.txt", filepath.Base(first))
	require.Equal(t, "note-2.txt", filepath.Base(second))
	require.Equal(t, map[string]string{"note.txt": "1", "note-2.txt": "2"}, all(t, dir))
}

func TestLinkNewNeverReplaces(t *testing.T) {
	dir := t.TempDir()
	a, b := filepath.Join(dir, "a"), filepath.Join(dir, "b")
	write(t, a, "a")
	write(t, b, "b")
	require.True(t, errors.Is(linkNew(a, b), fs.ErrExist))
	require.NoError(t, linkNew(a, filepath.Join(dir, "c")))
	require.Equal(t, map[string]string{"b": "b", "c": "a"}, all(t, dir))
}

func TestNumbered(t *testing.T) {
	require.Equal(t, "a.txt", Numbered("a.txt", 1))
	require.Equal(t, "a-2.txt", Numbered("a.txt", 2))
	require.Equal(t, "a-3", Numbered("a", 3))
	require.Equal(t, ".a-2", Numbered(".a", 2))
}
