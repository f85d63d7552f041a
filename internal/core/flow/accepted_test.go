package flow

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"stilltide/internal/core/job"
)

// What was accepted before a start holds for what the first look finds, and not for what goes later.
func TestAcceptedForTheFirstLook(t *testing.T) {
	now := time.Date(2026, 3, 4, 12, 0, 0, 0, time.UTC)
	f := &Flow{}
	f.accepted = job.Pauses{"a": now.Add(24 * time.Hour), "b": now.Add(time.Minute)}
	require.True(t, f.isAccepted("a", now.Add(23*time.Hour)), "the first look may take long")
	require.False(t, f.isAccepted("b", now.Add(time.Hour)))
	require.False(t, f.isAccepted("c", now))
	f.HasBegun(now)
	require.True(t, f.isAccepted("a", now.Add(foundLater-time.Second)))
	require.False(t, f.isAccepted("a", now.Add(foundLater)))
	require.False(t, f.isAccepted("b", now.Add(time.Minute)))
}
