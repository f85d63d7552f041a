//go:build linux

package place

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/held"
	"stilltide/internal/naming"
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
		if err == nil && d.Type().IsRegular() {
			rel, _ := filepath.Rel(dir, p)
			found[rel] = read(t, p)
		}
		return err
	}))
	return found
}

func request(dir string, f file.Facts) Request {
	return Request{Source: filepath.Join(dir, "in", "a.txt"), To: plan.Spot{Root: filepath.Join(dir, "out"),
		Rel: "deep", Name: "a.txt"},
		Expect: f, Part: ".stilltide-test", Kept: filepath.Join(dir, "kept")}
}

func TestACopyCanBeEnded(t *testing.T) {
	dir := t.TempDir()
	stop := make(chan struct{})
	close(stop)
	r := request(dir, write(t, filepath.Join(dir, "in/a.txt"), "one"))
	for what, do := range map[string]func(*Placer) (Result, error){
		"copy": func(p *Placer) (Result, error) { return p.Copy(r) },
		"move": func(p *Placer) (Result, error) {
			p.ops = crossOps{held.System{Stop: stop}}
			return p.Move(r)
		},
	} {
		_, err := do(&Placer{Stop: stop})
		require.ErrorIs(t, err, job.ErrStopped, what)
		require.Equal(t, map[string]string{"in/a.txt": "one"}, all(t, dir), what)
	}
	_, err := (&Placer{Stop: make(chan struct{})}).Copy(r)
	require.NoError(t, err)
	require.Equal(t, map[string]string{"in/a.txt": "one", "out/deep/a.txt": "one"}, all(t, dir))
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
	require.ErrorIs(t, err, job.ErrGone)
	write(t, r.Source, "three")
	_, err = p.Move(r)
	require.ErrorIs(t, err, job.ErrChanged)
	require.Equal(t, "three", read(t, r.Source))
}

// crossOps behaves as if source and target were on different file systems.
type crossOps struct{ held.System }

func (c crossOps) Rename(from *held.Folder, name string, d *held.Folder, as string) error {
	if from.Path != d.Path {
		return &os.LinkError{Op: "rename", Old: from.At(name), New: d.At(as), Err: unix.EXDEV}
	}
	return c.System.Rename(from, name, d, as)
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

// faults are what the system may say of any operation.
var faults = []error{unix.ENOSPC, unix.EACCES, unix.EROFS, unix.ENAMETOOLONG, unix.EIO, unix.EPERM, unix.EDQUOT}

// everyFault lets each operation of an act fail, one after the other, with
// each error; check looks at what is left. setUp makes a new world.
func everyFault(t *testing.T, faults []error, inner held.Ops, act func(p *Placer, dir string) error,
	setUp func(dir string), check func(dir, what string, err error)) {
	for _, fault := range faults {
		for at := 1; ; at++ {
			dir := t.TempDir()
			setUp(dir)
			count, log := 0, []string{}
			p := Placer{ops: inner, Before: func(operation string, paths ...string) error {
				count++
				log = append(log, operation)
				if count != at {
					return nil
				}
				if operation == "copy" { // one that stopped half-way
					require.NoError(t, os.WriteFile(paths[1], []byte("on"), 0o600))
				}
				return &os.PathError{Op: operation, Path: paths[0], Err: fault}
			}}
			err := act(&p, dir)
			what := fmt.Sprintf("%v at operation %d of %s: %v", fault, at, strings.Join(log, " "), err)
			if count < at { // nothing failed any more
				require.NoError(t, err, what)
				require.Greater(t, at, 2)
				break
			}
			if err != nil {
				require.ErrorIs(t, err, fault, what)
				require.Contains(t, err.Error(), dir, "the message names the file: "+what)
				require.NotContains(t, strings.SplitN(err.Error(), "\n", 2)[0], ".stilltide-test:", what)
			}
			check(dir, what, err)
		}
	}
}

// Whatever operation fails, with whatever error: the content is whole in
// exactly one place, and no part-file remains.
func TestEveryFaultOfAMove(t *testing.T) {
	for _, inner := range []held.Ops{held.System{}, crossOps{}} {
		for _, untouched := range []bool{false, true} {
			everyFault(t, faults, inner, func(p *Placer, dir string) error {
				f, err := watchfs.Stat(filepath.Join(dir, "in/a.txt"))
				require.NoError(t, err)
				r := request(dir, f)
				r.Untouched = untouched
				_, err = p.Move(r)
				return err
			}, func(dir string) { write(t, filepath.Join(dir, "in/a.txt"), "one") },
				func(dir, what string, err error) {
					files := all(t, dir)
					require.Len(t, files, 1, what)
					for path, content := range files {
						require.Equal(t, "one", content, what)
						require.Equal(t, err == nil, path == "out/deep/a.txt", what)
					}
				})
		}
	}
}

func TestEveryFaultOfACopy(t *testing.T) {
	everyFault(t, faults, held.System{}, func(p *Placer, dir string) error {
		f, err := watchfs.Stat(filepath.Join(dir, "in/a.txt"))
		require.NoError(t, err)
		_, err = p.Copy(request(dir, f))
		return err
	}, func(dir string) { write(t, filepath.Join(dir, "in/a.txt"), "one") }, func(dir, what string, err error) {
		want := map[string]string{"in/a.txt": "one"}
		if err == nil {
			want["out/deep/a.txt"] = "one"
		}
		require.Equal(t, want, all(t, dir), what)
	})
}

// What is replaced is there until its replacement is, and kept afterwards.
func TestEveryFaultOfReplacing(t *testing.T) {
	setUp := func(dir string) {
		write(t, filepath.Join(dir, "in/a.txt"), "new")
		write(t, filepath.Join(dir, "out/deep/a.txt"), "old")
	}
	for name, act := range map[string]func(p *Placer, r Request) error{
		"copy": func(p *Placer, r Request) error { _, err := p.Copy(r); return err },
		"move": func(p *Placer, r Request) error { _, err := p.Move(r); return err },
		"replace": func(p *Placer, r Request) error {
			f, err := watchfs.Stat(r.To.Path())
			require.NoError(t, err)
			r.Expect = f
			_, err = p.Replace(r)
			return err
		},
	} {
		for _, inner := range []held.Ops{held.System{}, crossOps{}} {
			everyFault(t, faults[:3], inner, func(p *Placer, dir string) error {
				f, err := watchfs.Stat(filepath.Join(dir, "in/a.txt"))
				require.NoError(t, err)
				r := request(dir, f)
				r.Same = rule.SameReplace
				return act(p, r)
			}, setUp, func(dir, what string, err error) {
				want := map[string]string{"in/a.txt": "new", "out/deep/a.txt": "old"}
				if err == nil {
					want["out/deep/a.txt"], want["kept"] = "new", "old"
					if name == "move" {
						delete(want, "in/a.txt")
					}
				}
				got := all(t, dir)
				// the copy is in its place, but its source would not go
				if name == "move" && err != nil && got["kept"] == "old" {
					want["out/deep/a.txt"], want["kept"] = "new", "old"
				}
				require.Equal(t, want, got, name+": "+what)
			})
		}
	}
}

func TestEveryFaultOfUnpacking(t *testing.T) {
	everyFault(t, faults[:3], held.System{}, func(p *Placer, dir string) error {
		f, err := watchfs.Stat(filepath.Join(dir, "in/a.txt"))
		require.NoError(t, err)
		_, err = p.Unpack(request(dir, f), roomy)
		return err
	}, func(dir string) {
		writeZip(t, filepath.Join(dir, "in/a.txt"), map[string]string{"one": "1", "sub/two": "2", "sub/three": "3"})
	}, func(dir, what string, err error) {
		files := all(t, dir)
		delete(files, "in/a.txt")
		if err != nil {
			require.Empty(t, files, what)
			return
		}
		require.Equal(t, map[string]string{"out/deep/one": "1", "out/deep/sub/two": "2", "out/deep/sub/three": "3"},
			files, what)
	})
}

// swapOps puts a stranger in the source's place right before the rename.
type swapOps struct {
	held.System
	swap func()
}

func (s swapOps) Rename(from *held.Folder, name string, d *held.Folder, as string) error {
	if s.swap != nil {
		s.swap()
	}
	return s.System.Rename(from, name, d, as)
}

// moveAmid moves a file, and does something right before the rename.
func moveAmid(r Request, act func()) error {
	p := Placer{ops: swapOps{swap: sync.OnceFunc(act)}}
	_, err := p.Move(r)
	return err
}

func TestAStrangerIsPutBack(t *testing.T) {
	for _, untouched := range []bool{false, true} {
		dir := t.TempDir()
		src := filepath.Join(dir, "in/a.txt")
		r := request(dir, write(t, src, "mine"))
		r.Untouched = untouched
		err := moveAmid(r, func() {
			require.NoError(t, os.Rename(src, src+".old"))
			write(t, src, "stranger")
		})
		require.ErrorIs(t, err, job.ErrChanged)
		require.Equal(t, map[string]string{"in/a.txt": "stranger", "in/a.txt.old": "mine"}, all(t, dir))
	}
}

// A file that is not held is put back, too, if it is written to in the instant
// of its move: it could be another one with the same inode number.
func TestAChangeAmidAMove(t *testing.T) {
	dir := t.TempDir()
	src := filepath.Join(dir, "in/a.txt")
	r := request(dir, write(t, src, "mine"))
	r.Untouched = true
	more := func() { require.NoError(t, os.WriteFile(src, []byte("mine and more"), 0o640)) }
	require.ErrorIs(t, moveAmid(r, more), job.ErrChanged)
	require.Equal(t, map[string]string{"in/a.txt": "mine and more"}, all(t, dir))
}

func TestLinksAreNotMovedAsFiles(t *testing.T) {
	dir := t.TempDir()
	target := filepath.Join(dir, "secret")
	f := write(t, target, "x")
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "in"), 0o777))
	require.NoError(t, os.Symlink(target, filepath.Join(dir, "in/a.txt")))
	var p Placer
	_, err := p.Move(request(dir, f))
	require.ErrorIs(t, err, job.ErrChanged)
}

func TestWrite(t *testing.T) {
	dir := t.TempDir()
	var p Placer
	name := func(text string) string {
		res, err := p.Write(Request{To: plan.Spot{Root: dir, Name: "note.txt"}, Part: ".stilltide-n"}, []byte(text))
		require.NoError(t, err)
		return filepath.Base(res.Target)
	}
	require.Equal(t, []string{"note.txt", "note-2.txt", "note.txt"}, []string{name("1"), name("2"), name("1")})
	require.Equal(t, map[string]string{"note.txt": "1", "note-2.txt": "2"}, all(t, dir))
}

func TestSameName(t *testing.T) {
	for same, want := range map[rule.SameName]map[string]string{
		rule.SameNumber:  {"in/a.txt": "new", "out/deep/a.txt": "old", "out/deep/a-2.txt": "new"},
		rule.SameReplace: {"in/a.txt": "new", "out/deep/a.txt": "new", "kept": "old"},
		rule.SameSkip:    {"in/a.txt": "new", "out/deep/a.txt": "old"},
		rule.SameFail:    {"in/a.txt": "new", "out/deep/a.txt": "old"},
	} {
		for _, verb := range []string{"copy", "move"} {
			dir := t.TempDir()
			write(t, filepath.Join(dir, "out/deep/a.txt"), "old")
			r := request(dir, write(t, filepath.Join(dir, "in/a.txt"), "new"))
			r.Same = same
			var p Placer
			var err error
			after := map[string]string{}
			for k, v := range want {
				after[k] = v
			}
			if verb == "copy" {
				_, err = p.Copy(r)
			} else if _, err = p.Move(r); err == nil {
				delete(after, "in/a.txt")
			}
			switch same {
			case rule.SameSkip:
				require.ErrorIs(t, err, job.ErrSkipped)
			case rule.SameFail:
				require.ErrorIs(t, err, job.ErrTaken)
			default:
				require.NoError(t, err)
			}
			require.Equal(t, after, all(t, dir), "%s, %s", verb, same)
		}
	}
}

// A part of a destination that was filled from a name never passes through a
// link; the part that the rule spells out may.
func TestLinksInDestinations(t *testing.T) {
	dir := t.TempDir()
	outside := filepath.Join(dir, "outside")
	require.NoError(t, os.MkdirAll(outside, 0o777))
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "out"), 0o777))
	require.NoError(t, os.Symlink(outside, filepath.Join(dir, "out", "deep")))
	r := request(dir, write(t, filepath.Join(dir, "in/a.txt"), "one"))
	var p Placer
	_, err := p.Move(r)
	require.ErrorContains(t, err, filepath.Join(dir, "out/deep")+
		" cannot be made: a part of it that came from a placeholder is a link")
	require.Equal(t, map[string]string{"in/a.txt": "one"}, all(t, dir))
	r.To.Root, r.To.Rel = filepath.Join(dir, "out", "deep"), ""
	_, err = p.Move(r)
	require.NoError(t, err)
	require.Equal(t, "one", read(t, filepath.Join(outside, "a.txt")))
}

// A link that is swapped in while the folder is open leads nowhere.
func TestALinkSwappedIn(t *testing.T) {
	dir := t.TempDir()
	r := request(dir, write(t, filepath.Join(dir, "in/a.txt"), "one"))
	outside := filepath.Join(dir, "outside")
	require.NoError(t, os.MkdirAll(outside, 0o777))
	p := Placer{ops: swapOps{swap: func() {
		require.NoError(t, os.Rename(r.To.Folder(), filepath.Join(dir, "was")))
		require.NoError(t, os.Symlink(outside, r.To.Folder()))
	}}}
	_, err := p.Move(r)
	require.NoError(t, err)
	require.Equal(t, "one", read(t, filepath.Join(dir, "was", "a.txt")))
	require.NoFileExists(t, filepath.Join(outside, "a.txt"))
}

func TestTheTargetFolderVanishes(t *testing.T) {
	dir := t.TempDir()
	r := request(dir, write(t, filepath.Join(dir, "in/a.txt"), "one"))
	done := false
	p := Placer{ops: swapOps{swap: func() {
		if !done {
			done = true
			require.NoError(t, os.RemoveAll(filepath.Join(dir, "out")))
		}
	}}}
	_, err := p.Move(r)
	require.NoError(t, err)
	require.Equal(t, map[string]string{"out/deep/a.txt": "one"}, all(t, dir))
}

func TestNumbered(t *testing.T) {
	require.Equal(t, "a.txt", naming.Numbered("a.txt", 1))
	require.Equal(t, "a-2.txt", naming.Numbered("a.txt", 2))
	require.Equal(t, "a-3", naming.Numbered("a", 3))
	require.Equal(t, ".a-2", naming.Numbered(".a", 2))
}

// Files of one job go their ways apart: what is hidden of one of them, because it could be neither
// removed nor brought back, is not taken for the rest of another's.
func TestWhatIsHiddenOfOneFileSurvivesAnother(t *testing.T) {
	dir := t.TempDir()
	for _, sub := range []string{"in", "out"} {
		require.NoError(t, os.Mkdir(filepath.Join(dir, sub), 0o777))
	}
	refusing := false
	p := &Placer{Before: func(operation string, paths ...string) error {
		if operation == "rename" && filepath.Dir(paths[0]) != filepath.Dir(paths[1]) {
			return &os.LinkError{Op: operation, Old: paths[0], New: paths[1], Err: syscall.EXDEV}
		}
		hidden := strings.HasPrefix(filepath.Base(paths[0]), plan.HiddenPrefix) && filepath.Dir(paths[0]) ==
			filepath.Join(dir, "in")
		if refusing && hidden && (operation == "stat" || operation == "rename") {
			return syscall.EIO
		}
		return nil
	}}
	request := func(name string) Request {
		path := filepath.Join(dir, "in", name)
		require.NoError(t, os.WriteFile(path, []byte(name), 0o666))
		facts, err := watchfs.Stat(path)
		require.NoError(t, err)
		to := plan.SpotOf(filepath.Join(dir, "out", name))
		return Request{Source: path, To: to, Expect: facts, Ledger: "l", Job: 1}
	}
	a, b := request("a"), request("b")
	moved, err := p.Move(a)
	require.NoError(t, err)
	refusing = true
	_, err = p.Move(b)
	require.Error(t, err)
	refusing = false
	require.NoError(t, p.Undo(Record{Kind: job.Moved, Source: a.Source, Target: moved.Target, Before: a.Expect,
		After: moved.Facts}, PartName("l", 1, a.Source)))
	var all []string
	require.NoError(t, filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		content, err := os.ReadFile(path)
		all = append(all, string(content))
		return err
	}))
	slices.Sort(all)
	require.Equal(t, []string{"a", "b"}, all)
}
