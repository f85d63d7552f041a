//go:build linux

package main

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"stilltide/internal/core/job"
	"stilltide/internal/ledger"
)

// Each pair of rounds becomes one value; the median of these is held against
// the goal, so that one bad round neither fails a case nor saves it.
func TestFigures(t *testing.T) {
	var b bench
	b.add(Result{Ours: []float64{3, 10, 4}, Base: []float64{2, 1, 2}}, "ratio", 2)
	b.add(Result{Ours: []float64{3, 10, 4}, Base: []float64{2, 1, 2}}, "difference", 1.9)
	b.add(Result{Ours: []float64{40.5}}, "value", 40.5)
	require.Equal(t, []float64{1.5, 10, 2}, b.results[0].Values)
	require.Equal(t, []float64{1.5, 2, 10}, []float64{b.results[0].Low, b.results[0].Median, b.results[0].High})
	require.True(t, b.results[0].Reached, "just the goal")
	require.Equal(t, 2.0, b.results[1].Median)
	require.False(t, b.results[1].Reached)
	require.True(t, b.results[2].Reached)
	require.Equal(t, []string{"2.00x", "+2.00", "40.50"}, []string{b.results[0].show(2), b.results[1].show(2),
		b.results[2].show(40.5)})
	require.Equal(t, 10, (&bench{scale: 0.001}).count(2000), "never too few to say anything")
}

// A machine that gets slower all the time makes neither of two things look worse.
func TestFramed(t *testing.T) {
	slower := 0.0
	measure := func(takes float64) func() (float64, error) {
		return func() (float64, error) {
			slower++
			return takes + slower, nil
		}
	}
	a, b, err := framed(measure(10), measure(20))
	require.NoError(t, err)
	require.Equal(t, 10.0, b-a)
	_, _, err = framed(measure(1), func() (float64, error) { return 0, os.ErrNotExist })
	require.ErrorIs(t, err, os.ErrNotExist)
}

// A case is over when all of its files are there, not when the last one is.
func TestUntilAllAreThere(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, drop(dir, 5))
	require.NoError(t, until(dir, dropped(4), 5))
	require.NoError(t, os.Remove(filepath.Join(dir, dropped(2))))
	again := make(chan error, 1)
	time.AfterFunc(50*time.Millisecond, func() { again <- drop(dir, 5) })
	require.NoError(t, until(dir, dropped(4), 5))
	require.FileExists(t, filepath.Join(dir, dropped(2)))
	require.NoError(t, <-again, "the folder is not taken away while files are dropped")
}

// The ledger that the case of a long queue begins with is written past the ledger's own
// functions: it holds what they would read.
func TestTheQueueIsFilled(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(dir, "in"), 0o755))
	require.NoError(t, fillQueue(dir, 3, true))
	l, err := ledger.Read(filepath.Join(dir, ".stilltide"))
	require.NoError(t, err)
	defer l.Close()
	jobs, err := l.OpenJobs("long", []job.State{job.Queued}, 0, 0)
	require.NoError(t, err)
	require.Len(t, jobs, 3)
	require.True(t, jobs[0].Facts.Exists)
	require.FileExists(t, jobs[2].File)
	tally, err := l.Tally()
	require.NoError(t, err)
	require.Equal(t, 3, tally["long"][job.Queued])
}
