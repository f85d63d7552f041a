//go:build linux

package place

import (
	"errors"
	"os"
	"path/filepath"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/held"
	"stilltide/internal/machine"
	"stilltide/internal/standin/caseblind"
	"stilltide/internal/watchfs"
)

// ways are ways that lead from a folder back to it; each gives the path of the other way.
var ways = map[string]func(t *testing.T, in string) string{
	"itself": func(_ *testing.T, in string) string { return in },
	"link": func(t *testing.T, in string) string {
		require.NoError(t, os.Symlink(in, in+"-link"))
		return in + "-link"
	},
	"bind mount": func(t *testing.T, in string) string { return mount(t, in, in+"-bind", "", unix.MS_BIND, "") },
	"share": func(t *testing.T, in string) string { // the same folder under another device number
		at := in + "-share"
		require.NoError(t, os.MkdirAll(at, 0o777))
		unmount, err := caseblind.Mount(in, at)
		if err != nil {
			machine.Lacks(t, "no FUSE here: "+err.Error())
		}
		t.Cleanup(func() { unmount() })
		return at
	},
	"overlay, from above": func(t *testing.T, in string) string {
		base := filepath.Dir(in)
		for _, dir := range []string{"lower", "work"} {
			require.NoError(t, os.MkdirAll(filepath.Join(base, dir), 0o777))
		}
		return mount(t, "overlay", in+"-merged", "overlay", 0, "lowerdir="+base+"/lower,upperdir="+in+",workdir="+
			base+"/work")
	},
}

// mount mounts something for one test; without the right to do so the test is skipped.
func mount(t *testing.T, source, at, kind string, flags uintptr, options string) string {
	t.Helper()
	require.NoError(t, os.MkdirAll(at, 0o777))
	if err := unix.Mount(source, at, kind, flags, options); err != nil {
		machine.Lacks(t, "mounting "+kind+": "+err.Error())
	}
	t.Cleanup(func() { unix.Unmount(at, unix.MNT_DETACH) })
	return at
}

// Whichever way leads back to a file's own folder, whatever the rule says of
// names: the file stays, nothing is recorded, nothing is numbered.
func TestTheSamePlaceIsNoPlacement(t *testing.T) {
	for way, other := range ways {
		for _, same := range []rule.SameName{rule.SameNumber, rule.SameReplace, rule.SameSkip, rule.SameFail} {
			for _, unit := range []string{"file", "folder"} {
				for _, verb := range []string{"move", "copy"} {
					t.Run(way+" "+string(same)+" "+verb+" "+unit, func(t *testing.T) {
						dir := machine.Memory(t) // overlays may have their upper layer there
						in := filepath.Join(dir, "in")
						source := filepath.Join(in, "a.txt")
						write(t, filepath.Join(in, "a-2.txt"), "a neighbour")
						if unit == "folder" {
							write(t, filepath.Join(source, "inside"), "one")
						} else {
							write(t, source, "one")
						}
						to := other(t, in)
						before := all(t, in)
						f, err := watchfs.LookAny(source)
						require.NoError(t, err)
						r := Request{Source: source, To: plan.Spot{Root: to, Name: "a.txt"}, Expect: f,
							Part: ".stilltide-t", Kept: filepath.Join(dir, "kept"), Same: same}
						var last Staged
						r.Stage = func(s []Staged) error { last = s[0]; return nil }
						var p Placer
						act := p.Move
						if verb == "copy" {
							act = p.Copy
						}
						res, err := act(r)
						require.NoError(t, err)
						if (way == "overlay, from above" || way == "share") && verb == "copy" && unit == "file" {
							require.True(t, res.Here || res.Same)
						} else {
							require.True(t, res.Here, "%+v, staged %+v", res, last)
						}
						require.Equal(t, before, all(t, in))
					})
				}
			}
		}
	}
}

func TestAHardLinkIsAnotherEntry(t *testing.T) {
	for _, to := range []string{"in", "out"} {
		dir := t.TempDir()
		source := filepath.Join(dir, "in/a.txt")
		f := write(t, source, "one")
		require.NoError(t, os.MkdirAll(filepath.Join(dir, to), 0o777))
		require.NoError(t, os.Link(source, filepath.Join(dir, to, "b.txt")))
		var p Placer
		res, err := p.Move(Request{Source: source, To: plan.Spot{Root: filepath.Join(dir, to), Name: "b.txt"},
			Expect: f, Part: ".stilltide-t"})
		require.NoError(t, err)
		require.True(t, res.Same)
		require.Equal(t, map[string]string{to + "/b.txt": "one"}, all(t, dir))
	}
}

// Two moves that take each other's file for the one that stays: at least one does.
func TestDuplicatesMovedCrosswise(t *testing.T) {
	for range 300 {
		dir := machine.Memory(t) // overlays may have their upper layer there
		a, b := filepath.Join(dir, "a"), filepath.Join(dir, "b")
		fa, fb := write(t, filepath.Join(a, "f"), "one"), write(t, filepath.Join(b, "f"), "one")
		var both sync.WaitGroup
		move := func(from, to, part string, r Request) {
			both.Go(func() {
				p := Placer{}
				r.Source, r.To, r.Part = filepath.Join(from, "f"), plan.Spot{Root: to, Name: "f"}, part
				_, err := p.Move(r)
				if err != nil && !errors.Is(err, job.ErrGone) && !errors.Is(err, job.ErrChanged) {
					t.Error(err)
				}
			})
		}
		move(a, b, ".stilltide-a", Request{Expect: fa})
		move(b, a, ".stilltide-b", Request{Expect: fb})
		both.Wait()
		files := all(t, dir)
		require.NotEmpty(t, files, "both are gone")
		for name := range files {
			require.NotContains(t, name, ".stilltide-")
		}
	}
}

// Whatever fails or happens while a duplicate is removed: its content is left.
func TestEveryFaultOfRemovingADuplicate(t *testing.T) {
	everyFault(t, faults, held.System{}, func(p *Placer, dir string) error {
		f, err := watchfs.Stat(filepath.Join(dir, "in/a.txt"))
		require.NoError(t, err)
		_, err = p.Move(request(dir, f))
		return err
	}, func(dir string) {
		write(t, filepath.Join(dir, "in/a.txt"), "one")
		write(t, filepath.Join(dir, "out/deep/a.txt"), "one")
	}, func(dir, what string, err error) {
		want := map[string]string{"in/a.txt": "one", "out/deep/a.txt": "one"}
		if err == nil {
			delete(want, "in/a.txt")
		}
		require.Equal(t, want, all(t, dir), what)
	})
}

func TestTheDuplicateThatStaysGoesInThatInstant(t *testing.T) {
	for name, meanwhile := range map[string]func(in, target string) error{
		"removed": func(_, target string) error { return os.Remove(target) },
		"changed": func(_, target string) error { return os.WriteFile(target, []byte("two"), 0o666) },
		"and another file takes the source's name": func(in, target string) error {
			return errors.Join(os.Remove(target), os.WriteFile(in, []byte("three"), 0o666))
		},
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			f := write(t, filepath.Join(dir, "in/a.txt"), "one")
			write(t, filepath.Join(dir, "out/deep/a.txt"), "one")
			r := request(dir, f)
			var p Placer
			done := false
			p.Before = func(operation string, paths ...string) error {
				// the source is hidden now
				if operation == "stat" && filepath.Base(paths[0]) == ".stilltide-test" && !done {
					done = true
					return meanwhile(r.Source, r.To.Path())
				}
				return nil
			}
			_, err := p.Move(r)
			require.NoError(t, err)
			require.True(t, done)
			files := all(t, dir)
			contents := map[string]bool{}
			for _, c := range files {
				contents[c] = true
			}
			require.True(t, contents["one"], "%v", files)
			require.NoFileExists(t, filepath.Join(dir, "in/.stilltide-test"))
		})
	}
}

// A hard link that another job has placed and still works on is no file at rest: it gets its own number.
func TestAHardLinkThatAnotherJobHolds(t *testing.T) {
	dir := t.TempDir()
	source, other := filepath.Join(dir, "in", "a.txt"), filepath.Join(dir, "in", "b.txt")
	f := write(t, source, "one")
	require.NoError(t, os.Link(source, other))
	res, err := (&Placer{}).Move(Request{Source: source, To: plan.Spot{Root: filepath.Join(dir, "in"), Name: "b.txt"},
		Expect: f, Part: ".stilltide-t", Held: func(path string) bool { return path == other }})
	require.NoError(t, err)
	require.False(t, res.Same)
	require.Equal(t, map[string]string{"in/b.txt": "one", "in/b-2.txt": "one"}, all(t, dir))
}
