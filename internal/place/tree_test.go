//go:build linux

package place

import (
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/held"
	"stilltide/internal/watchfs"
)

// box makes a folder with files, folders and a link.
func box(t *testing.T, dir string) Request {
	t.Helper()
	for _, name := range []string{"one", "two", "sub/three", "sub/deeper/four", "sub/five"} {
		write(t, filepath.Join(dir, "in/box", name), name)
	}
	require.NoError(t, os.Symlink("one", filepath.Join(dir, "in/box/link")))
	require.NoError(t, os.Mkdir(filepath.Join(dir, "in/box/empty"), 0o750))
	f, err := watchfs.LookTree(filepath.Join(dir, "in/box"))
	require.NoError(t, err)
	return Request{Source: filepath.Join(dir, "in/box"), To: plan.Spot{Root: filepath.Join(dir, "out"),
		Name: "box"}, Expect: f, Part: ".stilltide-test"}
}

func boxAt(at string) map[string]string {
	files := map[string]string{}
	for _, name := range []string{"one", "two", "sub/three", "sub/deeper/four", "sub/five"} {
		files[filepath.Join(at, name)] = name
	}
	return files
}

func TestAFolderGoesToAnotherDisk(t *testing.T) {
	dir := t.TempDir()
	p := Placer{ops: crossOps{}}
	res, err := p.Move(box(t, dir))
	require.NoError(t, err)
	require.Nil(t, res.Rest)
	require.Equal(t, boxAt("out/box"), all(t, dir))
	link, err := os.Readlink(filepath.Join(dir, "out/box/link"))
	require.NoError(t, err)
	require.Equal(t, "one", link)
	require.DirExists(t, filepath.Join(dir, "out/box/empty"))
	require.NoDirExists(t, filepath.Join(dir, "in/box"))
}

// Before the copy of a folder has its name, it is told by what it will be known: a start
// after a crash finds it by that, and does not place the folder a second time.
func TestTheCopyOfAFolderIsKnownBeforeItHasItsName(t *testing.T) {
	dir := t.TempDir()
	p := Placer{ops: crossOps{}}
	r := box(t, dir)
	var told []Staged
	r.Amend = func(s Staged) error {
		require.NoDirExists(t, s.Target)
		require.DirExists(t, r.Source)
		told = append(told, s)
		return nil
	}
	res, err := p.Move(r)
	require.NoError(t, err)
	require.Len(t, told, 1)
	require.Equal(t, res.Target, told[0].Target)
	require.Equal(t, res.Facts.Ino, told[0].Facts.Ino)
	require.NotEqual(t, r.Expect.Ino, told[0].Facts.Ino)
}

// Whatever fails: either the source is whole and there is no copy, or the copy is whole
// and what is left of the source is said and under its own name.
func TestEveryFaultOfAFolderThatGoesToAnotherDisk(t *testing.T) {
	everyFault(t, []error{unix.EIO, unix.EACCES}, crossOps{}, func(p *Placer, dir string) error {
		f, err := watchfs.LookTree(filepath.Join(dir, "in/box"))
		require.NoError(t, err)
		res, err := p.Move(Request{Source: filepath.Join(dir, "in/box"),
			To: plan.Spot{Root: filepath.Join(dir, "out"), Name: "box"}, Expect: f, Part: ".stilltide-test"})
		if err == nil {
			_, statErr := os.Lstat(filepath.Join(dir, "in/box"))
			require.Equal(t, res.Rest != nil, statErr == nil)
		}
		return err
	}, func(dir string) { box(t, dir) }, func(dir, what string, err error) {
		files := all(t, dir)
		at := "out/box"
		if err != nil {
			at = "in/box"
			require.NoDirExists(t, filepath.Join(dir, "out/box"), what)
		}
		for name, content := range boxAt(at) {
			require.Equal(t, content, files[name], what)
		}
		for name := range files {
			require.NotContains(t, name, ".stilltide-", what)
		}
	})
}

func TestWhatCannotBeRemovedOfAFolderStaysAndIsSaid(t *testing.T) {
	dir := t.TempDir()
	p := Placer{ops: crossOps{}, Before: func(operation string, paths ...string) error {
		if operation == "remove" && strings.HasSuffix(paths[0], "/three") {
			return &os.PathError{Op: "remove", Path: paths[0], Err: unix.EPERM}
		}
		return nil
	}}
	res, err := p.Move(box(t, dir))
	require.NoError(t, err)
	require.Equal(t, filepath.Join(dir, "in/box"), res.Rest.Path)
	require.Equal(t, 1, res.Rest.Entries)
	require.ErrorIs(t, res.Rest.Why, unix.EPERM)
	want := boxAt("out/box")
	want["in/box/sub/three"] = "sub/three"
	require.Equal(t, want, all(t, dir))
}

// A file that comes while the folder is copied, or is written meanwhile, is not lost.
func TestAFolderThatChangesWhileItIsCopiedStays(t *testing.T) {
	for what, change := range map[string]func(in string) error{
		"a new file": func(in string) error {
			return os.WriteFile(filepath.Join(in, "sub/late"), []byte("late"),
				0o644)
		},
		"new content": func(in string) error {
			return os.WriteFile(filepath.Join(in, "one"), []byte("ONE"),
				0o644)
		},
		"a writer": func(in string) error {
			f, err := os.OpenFile(filepath.Join(in, "two"), os.O_WRONLY, 0)
			if err == nil {
				t.Cleanup(func() { f.Close() })
			}
			return err
		},
	} {
		dir := t.TempDir()
		r := box(t, dir)
		changed := false
		p := Placer{ops: crossOps{}, Before: func(operation string, paths ...string) error {
			if operation == "rename" && !changed && strings.HasPrefix(paths[0], filepath.Join(dir, "out")) {
				changed = true // the copy is about to get its name
				return change(filepath.Join(dir, "in/box"))
			}
			return nil
		}}
		_, err := p.Move(r)
		require.ErrorIs(t, err, job.ErrChanged, what)
		require.True(t, changed)
		require.NoDirExists(t, filepath.Join(dir, "out/box"), what)
		require.DirExists(t, filepath.Join(dir, "in/box/sub"), what)
	}
}

// Ended in the middle of the removal, it is gone on with.
func TestTheRemovalOfAFolderIsFinished(t *testing.T) {
	for stop := 1; ; stop++ {
		dir := t.TempDir()
		r := box(t, dir)
		count := 0
		var placed file.Facts
		r.Stage = func(s []Staged) error { placed = s[0].Facts; return nil }
		p := Placer{ops: crossOps{}, Before: func(operation string, paths ...string) error {
			if operation == "remove" {
				if count++; count == stop {
					panic("ended")
				}
			}
			return nil
		}}
		ended := func() (ended bool) {
			defer func() { ended = recover() != nil }()
			_, err := p.Move(r)
			require.NoError(t, err)
			return false
		}()
		if !ended {
			require.Greater(t, stop, 5)
			return
		}
		require.True(t, placed.Dir)
		r.Stage = nil
		ok, rest, err := (&Placer{ops: crossOps{}}).FinishRemoval(r, filepath.Join(dir, "out/box"))
		require.NoError(t, err)
		require.True(t, ok)
		require.Nil(t, rest)
		require.Equal(t, boxAt("out/box"), all(t, dir), "ended at removal %d", stop)
		require.NoDirExists(t, filepath.Join(dir, "in/.stilltide-test"))
	}
}

// A link in the place of a folder below the watched one is not followed, whatever is done.
func TestASourceIsNotReachedThroughALink(t *testing.T) {
	dir := t.TempDir()
	victim := filepath.Join(dir, "victim")
	f := write(t, filepath.Join(victim, "a.txt"), "theirs")
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "in"), 0o777))
	require.NoError(t, os.Symlink(victim, filepath.Join(dir, "in/sub")))
	r := Request{Source: filepath.Join(dir, "in/sub/a.txt"), Root: filepath.Join(dir, "in"),
		To: plan.Spot{Root: filepath.Join(dir, "out"), Name: "a.txt"}, Expect: f, Part: ".stilltide-test"}
	var p Placer
	_, err := p.Move(r)
	require.ErrorIs(t, err, held.ErrSwapped)
	_, err = p.Copy(r)
	require.ErrorIs(t, err, held.ErrSwapped)
	require.ErrorIs(t, p.Delete(r), held.ErrSwapped)
	_, err = p.Trash(r)
	require.ErrorIs(t, err, held.ErrSwapped)
	placed := write(t, filepath.Join(dir, "out/b.txt"), "ours")
	err = p.Undo(Record{Kind: job.Moved, Source: filepath.Join(dir, "in/sub/b.txt"), Root: filepath.Join(dir, "in"),
		Target: filepath.Join(dir, "out/b.txt"), After: placed}, ".stilltide-test")
	require.Error(t, err)
	require.Equal(t, map[string]string{"victim/a.txt": "theirs", "out/b.txt": "ours"}, all(t, dir))
}

// What could not be removed of a folder, and has its name again, goes when that is tried again.
func TestTheRestOfAFolderIsRemoved(t *testing.T) {
	dir := t.TempDir()
	r := box(t, dir)
	refused := false
	p := Placer{ops: crossOps{}, Before: func(operation string, _ ...string) error {
		if operation == "remove" && !refused {
			refused = true
			return syscall.EIO
		}
		return nil
	}}
	res, err := p.Move(r)
	require.NoError(t, err)
	require.NotNil(t, res.Rest)
	require.DirExists(t, filepath.Join(dir, "in/box"))
	ok, rest, err := p.FinishRemoval(r, filepath.Join(dir, "out/box"))
	require.NoError(t, err)
	require.True(t, ok)
	require.Nil(t, rest)
	require.Equal(t, boxAt("out/box"), all(t, dir))
	require.NoDirExists(t, filepath.Join(dir, "in/box"))
}

// A rest that is refused once more is still a rest, and no new folder, unless something was put there.
func TestTheRestOfAFolderThatIsRefusedAgain(t *testing.T) {
	for what, put := range map[string]string{"as it was": "", "with something new": "new"} {
		t.Run(what, func(t *testing.T) {
			dir := t.TempDir()
			r := box(t, dir)
			refuse := "remove"
			p := Placer{ops: crossOps{}, Before: func(operation string, paths ...string) error {
				if operation != refuse || refuse == "remove" && !strings.HasSuffix(paths[0], "/three") {
					return nil
				}
				refuse = ""
				return syscall.EIO
			}}
			res, err := p.Move(r)
			require.NoError(t, err)
			require.NotNil(t, res.Rest)
			left := all(t, filepath.Join(dir, "in"))
			if put != "" {
				require.NoError(t, os.WriteFile(filepath.Join(dir, "in/box", put), []byte(put), 0o666))
			}
			refuse = "rename"
			ok, rest, err := p.FinishRemoval(r, filepath.Join(dir, "out/box"))
			require.Empty(t, refuse)
			if require.Equal(t, put == "", ok); !ok {
				require.Error(t, err)
				return
			}
			require.NoError(t, err)
			require.Equal(t, filepath.Join(dir, "in/box"), rest.Path)
			require.ErrorIs(t, rest.Why, syscall.EIO)
			require.Equal(t, left, all(t, filepath.Join(dir, "in")))
			require.Len(t, left, 1)
			require.Equal(t, res.Rest.Entries, rest.Entries)
		})
	}
}
