//go:build linux

package place

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/held"
	"stilltide/internal/watchfs"
)

// What was done beside its source is not undone through a link that was swapped in for the folder,
// not even where the link leads to the very file.
func TestNothingIsUndoneThroughASwappedFolder(t *testing.T) {
	for name, of := range map[string]Record{"rename": {Kind: job.Moved}, "put": {Kind: job.Put}} {
		dir := t.TempDir()
		in, sub := filepath.Join(dir, "in"), filepath.Join(dir, "in", "sub")
		aside, victim := filepath.Join(dir, "aside"), filepath.Join(dir, "victim")
		write(t, filepath.Join(sub, "f.c"), "mine")
		facts, err := watchfs.Stat(filepath.Join(sub, "f.c"))
		require.NoError(t, err)
		require.NoError(t, os.Rename(sub, aside))
		require.NoError(t, os.Mkdir(victim, 0o777))
		require.NoError(t, os.Link(filepath.Join(aside, "f.c"), filepath.Join(victim, "f.c")))
		require.NoError(t, os.Symlink(victim, sub))
		of.Root, of.Source, of.Target = in, filepath.Join(sub, "f.b"), filepath.Join(sub, "f.c")
		of.Before, of.After = facts, facts
		require.ErrorIs(t, (&Placer{}).Undo(of, ".part"), held.ErrSwapped, name)
		require.FileExists(t, filepath.Join(victim, "f.c"), name)
	}
}

// A file gets another name in the folder that it was found in. Where that folder is moved away meanwhile, none is made
// in its place.
func TestARenameMakesNoFolder(t *testing.T) {
	dir := t.TempDir()
	sub, aside := filepath.Join(dir, "in", "sub"), filepath.Join(dir, "aside")
	facts := write(t, filepath.Join(sub, "f.b"), "mine")
	p := &Placer{Before: func(operation string, _ ...string) error {
		if operation == "hold" {
			return os.Rename(sub, aside)
		}
		return nil
	}}
	_, err := p.Move(Request{Source: filepath.Join(sub, "f.b"), Root: filepath.Join(dir, "in"), Expect: facts,
		To: plan.Spot{Root: filepath.Join(dir, "in"), Rel: "sub", Name: "f.c"}, Part: ".part"})
	require.NoError(t, err)
	require.Equal(t, map[string]string{"aside/f.c": "mine"}, all(t, dir))
	require.NoDirExists(t, sub)
}
