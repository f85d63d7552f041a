package runner

import (
	"os/exec"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// A process has ended when it is a zombie, or gone; one that another process has started is no child of this one.
func TestAProcessHasEnded(t *testing.T) {
	c := exec.Command("cat")
	in, err := c.StdinPipe()
	require.NoError(t, err)
	require.NoError(t, c.Start())
	require.False(t, exited(c.Process.Pid))
	require.NoError(t, in.Close())
	require.Eventually(t, func() bool { return exited(c.Process.Pid) }, 20*time.Second, time.Millisecond)
	require.NoError(t, c.Wait())
	require.True(t, exited(c.Process.Pid))
	require.False(t, exited(1), "no child")
}

// A process that carries this ledger's mark is found and ended; one of another
// ledger is left alone.
func TestSurvivorsAreEnded(t *testing.T) {
	ours, others := exec.Command("sleep", "60"), exec.Command("sleep", "60")
	mark := t.TempDir()
	ours.Env = []string{"TIDE_LEDGER=" + mark, "TIDE_JOB=1"}
	others.Env = []string{"TIDE_LEDGER=" + mark + "-other"}
	require.NoError(t, ours.Start())
	require.NoError(t, others.Start())
	waited := make(chan error, 1)
	go func() { waited <- ours.Wait() }()
	require.Equal(t, 1, EndSurvivors(mark))
	require.ErrorContains(t, <-waited, "killed")
	require.NoError(t, others.Process.Kill(), "the other one still ran")
	_ = others.Wait()
	require.Zero(t, EndSurvivors(mark))
}
