package presence

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

var when = time.Date(2031, 4, 2, 10, 0, 0, 0, time.UTC)

// The second watcher of a folder is told of the first; one that has ended, with or without a
// word, is none; and a watcher that starts again meets itself no more.
func TestTwoWatchers(t *testing.T) {
	folder := t.TempDir()
	one := Note{Machine: "kelder1", PID: 7, Since: when, State: "/srv/a"}
	two := Note{Machine: "kelder2", PID: 8, Since: when.Add(-time.Hour), State: "/srv/a"} // its clock is wrong
	first, other, err := Take(folder, one, false)
	require.NoError(t, err)
	require.Nil(t, other)

	claim, other, err := Take(folder, two, false)
	require.NoError(t, err)
	require.Nil(t, claim)
	require.Equal(t, one, *other)
	require.NoFileExists(t, filepath.Join(folder, two.name()))

	claim, other, err = Take(folder, two, true)
	require.NoError(t, err)
	require.Equal(t, one, *other)
	claim.Release()
	require.NoFileExists(t, filepath.Join(folder, two.name()))

	first.Release()
	claim, other, err = Take(folder, two, false)
	require.NoError(t, err)
	require.Nil(t, other)
	again, other, err := Take(folder, two, false) // as after a crash
	require.NoError(t, err)
	require.Nil(t, other)
	again.Release()
	claim.Release()

	require.NoError(t, os.WriteFile(filepath.Join(folder, one.name()), []byte("{}"), 0o600))
	old := time.Now().Add(-2 * stale)
	require.NoError(t, os.Chtimes(filepath.Join(folder, one.name()), old, old))
	claim, other, err = Take(folder, two, false)
	require.NoError(t, err)
	require.Nil(t, other, "it was left by a watcher that ended without a word")
	claim.Release()
}

// Of two that come in the same moment one goes first, for both of them.
func TestInTheSameMoment(t *testing.T) {
	folder := t.TempDir()
	one := Note{Machine: "kelder1", Since: when, State: "/srv/a"}
	two := Note{Machine: "kelder2", Since: when, State: "/srv/a"}
	a := &Claim{path: filepath.Join(folder, one.name()), note: []byte(`{"since":"2031-04-02T10:00:00Z"}`)}
	b := &Claim{path: filepath.Join(folder, two.name()), note: a.note}
	require.NoError(t, a.write())
	require.NoError(t, b.write())
	first, err := a.other(folder, one, nil)
	require.NoError(t, err)
	second, err := b.other(folder, two, nil)
	require.NoError(t, err)
	require.NotEqual(t, first == nil, second == nil)
}
