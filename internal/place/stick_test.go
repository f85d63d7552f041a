//go:build linux

package place

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/machine"
	"stilltide/internal/standin/stick"
	"stilltide/internal/watchfs"
)

// onStick returns a folder on a plain file system.
func onStick(t *testing.T, lacks stick.Lacks) string {
	dir := t.TempDir()
	behind, at := filepath.Join(dir, "behind"), filepath.Join(dir, "stick")
	require.NoError(t, os.MkdirAll(behind, 0o777))
	require.NoError(t, os.MkdirAll(at, 0o777))
	unmount, err := stick.Mount(behind, at, lacks)
	if err != nil {
		machine.Lacks(t, "no FUSE here: "+err.Error())
	}
	t.Cleanup(func() { _ = unmount() })
	return at
}

// Whatever a file system lacks, of permissions, times, links, ways to rename: files and folders go there whole, what
// it cannot hold is told, and undoing brings them back with the mode and the time that they had.
func TestToAPlainFileSystemAndBack(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 22))
	chance := func() bool { return r.IntN(2) == 0 }
	for i := range 24 {
		lacks := stick.Lacks{Flags: chance(), Links: chance(), Modes: chance(), Times: chance(), Tags: chance(),
			Exact: []time.Duration{0, 2 * time.Second}[r.IntN(2)]}
		folder, replaces := chance(), chance()
		t.Run(fmt.Sprintf("%d folder %v replaces %v %+v", i, folder, replaces, lacks), func(t *testing.T) {
			at, home := onStick(t, lacks), t.TempDir()
			source := filepath.Join(home, "Chart")
			files := []string{source}
			if folder {
				files = []string{filepath.Join(source, "one"), filepath.Join(source, "below", "two")}
			}
			old := time.Date(2026, 3, 1, 12, 0, 1, 123456789, time.UTC)
			for _, path := range files {
				write(t, path, path)
				require.NoError(t, os.Chmod(path, 0o640))
				require.NoError(t, os.Chtimes(path, old, old))
			}
			same := rule.SameNumber
			if replaces && !folder {
				same = rule.SameReplace
				write(t, filepath.Join(at, "Chart"), "old")
			}
			facts, err := watchfs.LookAny(source)
			require.NoError(t, err)
			req := Request{Source: source, Root: home, To: plan.Spot{Root: at, Name: "Chart"}, Expect: facts,
				Part: ".stilltide-t", Kept: filepath.Join(home, "kept"), Same: same}
			rec := record(&req, job.Moved)
			rec.Root = home
			var p Placer
			res, err := p.Move(req)
			require.NoError(t, err)
			require.Nil(t, res.Rest, "all of the source went")
			require.NoFileExists(t, source)
			require.NoDirExists(t, source)
			if !folder {
				require.Equal(t, lacks.Modes, slices.Contains(res.Lost, "permissions"))
				require.Equal(t, lacks.Times, slices.Contains(res.Lost, "times"))
			}
			for _, path := range files {
				rel, err := filepath.Rel(source, path)
				require.NoError(t, err)
				text, err := os.ReadFile(filepath.Join(res.Target, rel))
				require.NoError(t, err)
				require.Equal(t, path, string(text))
			}
			require.NoError(t, p.Undo(*rec, ".stilltide-u"))
			for _, path := range files {
				text, err := os.ReadFile(path)
				require.NoError(t, err)
				require.Equal(t, path, string(text))
				info, err := os.Stat(path)
				require.NoError(t, err)
				if !folder { // what lies inside is known by its copy alone
					require.Equal(t, os.FileMode(0o640), info.Mode())
					require.True(t, old.Equal(info.ModTime()), info.ModTime())
				}
			}
			if same == rule.SameReplace {
				text, err := os.ReadFile(filepath.Join(at, "Chart"))
				require.NoError(t, err)
				require.Equal(t, "old", string(text))
			}
		})
	}
}

// So is what is made there: a copy, a text, new content for a file, what an archive holds.
func TestMadeOnAPlainFileSystem(t *testing.T) {
	for _, lacks := range []stick.Lacks{
		{Modes: true}, {Times: true}, {Flags: true, Links: true, Modes: true, Times: true, Tags: true,
			Exact: 2 * time.Second}, {Links: true, Exact: time.Second},
	} {
		t.Run(fmt.Sprintf("%+v", lacks), func(t *testing.T) {
			at, home := onStick(t, lacks), t.TempDir()
			source := filepath.Join(home, "pack.zip")
			writeZip(t, source, map[string]string{"one": "one", "below/two": "two"})
			facts, err := watchfs.LookAny(source)
			require.NoError(t, err)
			to := func(name string) Request {
				return Request{Source: source, Root: home, To: plan.Spot{Root: at, Name: name}, Expect: facts,
					Part: ".stilltide-t", Kept: filepath.Join(home, "kept"), Same: rule.SameFail}
			}
			var p Placer
			copied, err := p.Copy(to("copy"))
			require.NoError(t, err)
			_, err = p.Write(to("text"), []byte("text"))
			require.NoError(t, err)
			replace := to("text")
			replace.Expect, err = watchfs.LookAny(filepath.Join(at, "text"))
			require.NoError(t, err)
			_, err = p.Replace(replace)
			require.NoError(t, err)
			unpacked, err := p.Unpack(to(""), roomy)
			require.NoError(t, err)
			for what, is := range map[string]bool{"permissions": lacks.Modes, "times": lacks.Times} {
				require.Equal(t, is, slices.Contains(copied.Lost, what), what)
				require.Equal(t, is, slices.Contains(unpacked[0].Lost, what), what)
			}
			packed, err := os.ReadFile(source)
			require.NoError(t, err)
			for name, want := range map[string]string{"copy": string(packed), "text": string(packed), "one": "one",
				"below/two": "two"} {
				text, err := os.ReadFile(filepath.Join(at, name))
				require.NoError(t, err)
				require.Equal(t, want, string(text), name)
			}
			left, err := os.ReadDir(at)
			require.NoError(t, err)
			require.Len(t, left, 4, "nothing hidden is left")
		})
	}
}
