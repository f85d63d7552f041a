package place

import (
	"fmt"
	"os/exec"
	"path/filepath"
	"runtime"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"

	"stilltide/internal/core/plan"
	"stilltide/internal/watchfs"
)

// A process that is being started holds, for an instant, all that is open in this one: a file that was being written
// then looks as if somebody wrote to it. That is no reason to leave it where it is.
func TestAProcessThatIsStartedWritesToNothing(t *testing.T) {
	dir := t.TempDir()
	var over atomic.Bool
	var starting sync.WaitGroup
	defer starting.Wait()
	defer over.Store(true)
	for range 2 * runtime.GOMAXPROCS(0) {
		starting.Go(func() {
			for !over.Load() {
				_ = exec.Command("/bin/true").Run()
			}
		})
	}
	p := Placer{ops: crossOps{}}
	for i := range 1500 {
		path := filepath.Join(dir, "in", fmt.Sprint(i))
		write(t, path, "text")
		facts, err := watchfs.Stat(path)
		require.NoError(t, err)
		_, err = p.Move(Request{Source: path, To: plan.Spot{Root: filepath.Join(dir, "out"), Name: fmt.Sprint(i)},
			Expect: facts, Part: ".stilltide-test"})
		require.NoError(t, err)
	}
}
