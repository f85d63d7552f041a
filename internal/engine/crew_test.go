package engine

import (
	"sync/atomic"
	"testing"
	"testing/synctest"

	"github.com/stretchr/testify/require"
)

// A task never waits for another one, and who is idle takes the next.
func TestCrew(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		c := newCrew()
		var begun, done atomic.Int32
		release := make(chan struct{})
		task := func() {
			begun.Add(1)
			<-release
			done.Add(1)
		}
		for range 3 {
			c.begin(task)
			synctest.Wait()
		}
		require.EqualValues(t, 3, begun.Load(), "none waits for another")
		close(release)
		synctest.Wait()
		require.EqualValues(t, 3, done.Load())
		for range 3 {
			c.begin(task)
		}
		synctest.Wait()
		require.EqualValues(t, 6, done.Load())
		c.end() // its goroutines are gone, or synctest says so
	})
}
