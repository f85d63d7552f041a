package rerun

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

var start = time.Date(2031, 4, 2, 9, 0, 0, 0, time.UTC)

func at(ms int) time.Time { return start.Add(time.Duration(ms) * time.Millisecond) }

// says returns what the machine says at a time, in a word.
func says(m *Machine, ms int) string {
	run, files, stop := m.Next(at(ms), false)
	switch {
	case stop:
		return "stop"
	case !run:
		return ""
	}
	text := "run"
	for _, f := range files {
		text += " " + f
	}
	return text
}

func TestABurstIsOneRun(t *testing.T) {
	m := Machine{Quiet: 100 * time.Millisecond}
	m.Changed("a", at(0))
	m.Changed("b", at(50))
	m.Changed("a", at(90))
	require.Empty(t, says(&m, 150))
	wake, ok := m.Wake()
	require.True(t, ok)
	require.Equal(t, at(190), wake)
	run, _, _ := m.Next(at(190), true)
	require.False(t, run, "a file is still being written")
	require.Equal(t, "run a b", says(&m, 190))
	require.Empty(t, says(&m, 500))
}

func TestChangesWhileItRuns(t *testing.T) {
	m := Machine{Quiet: 100 * time.Millisecond}
	m.Changed("a", at(0))
	require.Equal(t, "run a", says(&m, 100))
	m.Changed("b", at(200))
	m.Changed("c", at(300))
	require.Empty(t, says(&m, 1000))
	_, ok := m.Wake()
	require.False(t, ok, "nothing to do before the run is over")
	m.Ended()
	require.Equal(t, "run b c", says(&m, 1000), "one more run for all of them")
	m.Ended()
	require.Empty(t, says(&m, 2000))
}

func TestStopOld(t *testing.T) {
	m := Machine{Quiet: 100 * time.Millisecond, StopOld: true}
	m.Changed("a", at(0))
	require.Equal(t, "run a", says(&m, 100))
	m.Changed("b", at(200))
	require.Empty(t, says(&m, 250))
	require.Equal(t, "stop", says(&m, 300))
	require.Empty(t, says(&m, 350), "stopped once")
	m.Ended()
	require.Equal(t, "run b", says(&m, 400))
}

func TestEach(t *testing.T) {
	m := Machine{Quiet: 100 * time.Millisecond, Each: true, StopOld: true}
	m.Changed("a", at(0))
	m.Changed("b", at(0))
	m.Changed("c", at(0))
	require.Equal(t, "run a", says(&m, 100))
	m.Changed("b", at(150))
	require.Empty(t, says(&m, 300), "another file's change does not stop it")
	m.Changed("a", at(300))
	require.Equal(t, "stop", says(&m, 400))
	m.Gone("c", at(410))
	m.Ended()
	require.Equal(t, "run b", says(&m, 600))
	m.Ended()
	require.Equal(t, "run a", says(&m, 600))
	m.Ended()
	require.Empty(t, says(&m, 900), "what is gone needs no run")
}

func TestAtTheStart(t *testing.T) {
	m := Machine{Quiet: time.Second}
	m.Begin([]string{"a"})
	require.Equal(t, "run", says(&m, 0))
	m = Machine{Quiet: time.Second, Each: true}
	m.Begin([]string{"a", "b"})
	require.Equal(t, "run a", says(&m, 5000))
}
