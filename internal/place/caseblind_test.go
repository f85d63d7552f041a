//go:build linux

package place

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/machine"
	"stilltide/internal/standin/caseblind"
	"stilltide/internal/watchfs"
)

// blind returns a folder on a file system without case.
func blind(t *testing.T) string {
	t.Helper()
	dir := t.TempDir()
	behind, at := filepath.Join(dir, "behind"), filepath.Join(dir, "card")
	require.NoError(t, os.MkdirAll(behind, 0o777))
	require.NoError(t, os.MkdirAll(at, 0o777))
	unmount, err := caseblind.Mount(behind, at)
	if err != nil {
		machine.Lacks(t, "no FUSE here: "+err.Error())
	}
	t.Cleanup(func() { unmount() })
	return at
}

func TestWithoutCase(t *testing.T) {
	names := func(dir string) (list []string) {
		entries, err := os.ReadDir(dir)
		require.NoError(t, err)
		for _, e := range entries {
			list = append(list, e.Name())
		}
		return list
	}
	for _, same := range []rule.SameName{rule.SameNumber, rule.SameReplace, rule.SameSkip, rule.SameFail} {
		for _, unit := range []string{"file", "folder"} {
			t.Run(string(same)+" "+unit, func(t *testing.T) {
				at := blind(t)
				source := filepath.Join(at, "Chart.PGM")
				if unit == "folder" {
					write(t, filepath.Join(source, "inside"), "one")
				} else {
					write(t, source, "one")
				}
				act := func(verb, name string) Result {
					f, err := watchfs.LookAny(source)
					require.NoError(t, err)
					require.True(t, f.Exists)
					r := Request{Source: source, To: plan.Spot{Root: at, Name: name}, Expect: f,
						Part: ".stilltide-t", Kept: filepath.Join(t.TempDir(), "kept"), Same: same}
					r.Stage = func([]Staged) error { return nil }
					var p Placer
					do := p.Move
					if verb == "copy" {
						do = p.Copy
					}
					res, err := do(r)
					require.NoError(t, err)
					return res
				}
				require.True(t, act("move", "Chart.PGM").Here)
				require.True(t, act("copy", "chart.pgm").Here, "a copy of itself")
				require.Equal(t, []string{"Chart.PGM"}, names(at))
				res := act("move", "chart.pgm") // only the case changes: that is carried out
				require.False(t, res.Here || res.Same)
				require.Equal(t, []string{"chart.pgm"}, names(at))
				if unit == "file" {
					require.Equal(t, "one", read(t, filepath.Join(at, "chart.pgm")))
				}
			})
		}
	}
}

func TestWithoutCaseANormalFormIsCarriedOut(t *testing.T) {
	at := blind(t)
	f := write(t, filepath.Join(at, "Kai\u0308.txt"), "one")
	var p Placer
	_, err := p.Move(Request{Source: filepath.Join(at, "Kai\u0308.txt"),
		To: plan.Spot{Root: at, Name: "Ka\u00ef.txt"}, Expect: f, Part: ".stilltide-t"})
	require.NoError(t, err)
	entries, err := os.ReadDir(at)
	require.NoError(t, err)
	require.Len(t, entries, 1)
	require.Equal(t, "Ka\u00ef.txt", entries[0].Name())
}

// Another file whose name differs by case alone is another file.
func TestWithoutCaseAnotherFile(t *testing.T) {
	at := blind(t)
	f := write(t, filepath.Join(at, "in", "A.txt"), "one")
	write(t, filepath.Join(at, "out", "a.TXT"), "two")
	var p Placer
	res, err := p.Move(Request{Source: filepath.Join(at, "in", "A.txt"),
		To: plan.Spot{Root: filepath.Join(at, "out"), Name: "A.txt"}, Expect: f, Part: ".stilltide-t"})
	require.NoError(t, err)
	require.Equal(t, filepath.Join(at, "out", "A-2.txt"), res.Target)
	require.Equal(t, map[string]string{"out/a.TXT": "two", "out/A-2.txt": "one"}, all(t, at))
}
