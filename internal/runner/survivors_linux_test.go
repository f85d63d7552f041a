package runner

import (
	"os/exec"
	"testing"

	"github.com/stretchr/testify/require"
)

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
