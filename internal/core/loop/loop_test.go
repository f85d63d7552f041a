package loop

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"stilltide/internal/core/file"
)

func TestChainsAreKnown(t *testing.T) {
	var b Book
	x := file.Facts{Exists: true, Regular: true, Size: 3, Mod: 1}
	b.Placed("/b/x", x, "first", nil, 0)
	require.Equal(t, []string{"first"}, b.Chain("/b/x", x))
	b.Placed("/c/x", x, "second", b.Chain("/b/x", x), 0)
	require.True(t, Stops("first", b.Chain("/c/x", x)))
	require.False(t, Stops("third", b.Chain("/c/x", x)))
	other := x
	other.Mod = 2
	require.Empty(t, b.Chain("/c/x", other), "another file, or what a person made of this one")
	b.Forget("/c/x")
	require.Empty(t, b.Chain("/c/x", x))
}

func TestAWholeFolderTakesItsChainAlong(t *testing.T) {
	var b Book
	folder := file.Facts{Exists: true, Dir: true}
	b.Placed("/b/box", folder, "first", nil, 0)
	require.Equal(t, []string{"first"}, b.Chain("/b/box", folder))
	require.Equal(t, []string{"first"}, b.FolderChain("/b/box"))
	require.Empty(t, b.Chain("/b/box", file.Facts{Exists: true, Regular: true}),
		"a file that came to have its name")
}

func TestSuspectedOutputCountsItsDepth(t *testing.T) {
	var b Book
	b.Appeared("/in/a.csv.out", []Running{{Input: "/in/a.csv", Depth: 2}, {Input: "/in/b.csv"}})
	require.Equal(t, 3, b.Depth("/in/a.csv.out", file.Facts{}))
	b.Appeared("/in/other", []Running{{Input: "/in/a.csv", Depth: 2}})
	require.Zero(t, b.Depth("/in/other", file.Facts{}))
	b.Appeared("/in/a.csv", []Running{{Input: "/in/a.csv"}})
	require.Zero(t, b.Depth("/in/a.csv", file.Facts{}), "the input itself is not its own output")
}

// A file that was placed and has changed since is taken for a new one, one deeper; what is placed from it is as deep.
func TestAChangedFileIsOneDeeper(t *testing.T) {
	var b Book
	placed, changed := file.Facts{Exists: true, Size: 1}, file.Facts{Exists: true, Size: 2}
	b.Placed("/in/note", placed, "notes", nil, 3)
	require.Equal(t, 3, b.Depth("/in/note", placed))
	require.Equal(t, 4, b.Depth("/in/note", changed))
	b.Forget("/in/note")
	require.Zero(t, b.Depth("/in/note", changed))
	b.Changed("/in/note", 3)
	require.Equal(t, 4, b.Depth("/in/note", changed))
	b.Placed("/in/note", placed, "notes", nil, 0)
	require.Zero(t, b.Depth("/in/note", placed), "it is another file")
}

func TestAgainAndAgain(t *testing.T) {
	var b Book
	now := time.Date(2031, 4, 2, 0, 0, 0, 0, time.UTC)
	for i := range Deepest - 1 {
		require.False(t, b.Again("r", "/f", now.Add(time.Duration(i)*time.Second)))
	}
	require.False(t, b.Again("r", "/g", now), "another file")
	require.True(t, b.Again("r", "/f", now.Add(10*time.Second)))
	for i := range 20 {
		require.False(t, b.Again("r", "/slow", now.Add(time.Duration(i)*20*time.Second)),
			"spread over a longer time")
	}
}
