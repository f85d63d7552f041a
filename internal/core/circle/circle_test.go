package circle

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestChainsAreKnown(t *testing.T) {
	var b Book
	b.Placed("/b/x", "first", nil)
	require.Equal(t, []string{"first"}, b.Chain("/b/x"))
	b.Placed("/c/x", "second", b.Chain("/b/x"))
	require.True(t, Stops("first", b.Chain("/c/x")))
	require.False(t, Stops("third", b.Chain("/c/x")))
	b.Forget("/c/x")
	require.Empty(t, b.Chain("/c/x"))
}

func TestSuspectedOutputCountsItsDepth(t *testing.T) {
	var b Book
	b.Appeared("/in/a.csv.out", []Running{{Input: "/in/a.csv", Depth: 2}, {Input: "/in/b.csv"}})
	require.Equal(t, 3, b.Depth("/in/a.csv.out"))
	b.Appeared("/in/other", []Running{{Input: "/in/a.csv", Depth: 2}})
	require.Zero(t, b.Depth("/in/other"))
	b.Appeared("/in/a.csv", []Running{{Input: "/in/a.csv"}})
	require.Zero(t, b.Depth("/in/a.csv"), "the input itself is not its own output")
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
		require.False(t, b.Again("r", "/slow", now.Add(time.Duration(i)*20*time.Second)), "spread over a longer time")
	}
}
