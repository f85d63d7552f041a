package look

import (
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"stilltide/internal/core/plan"

	"github.com/stretchr/testify/require"
)

// shares makes Answers that know of two file systems which may not answer.
func shares() *Answers {
	a := &Answers{table: func() []string { return []string{"/net", "/net/inner"} },
		linked: map[string]string{"/home/link": "/net/inner/x", "/home/link/back": "/home/here", "/aside": "/net/y"}}
	a.Refresh(0)
	return a
}

func TestWhatMayNotAnswer(t *testing.T) {
	a := shares()
	for path, at := range map[string]string{"/net": "/net", "/net/a/b": "/net", "/net/inner/c": "/net/inner",
		"/home/link/d": "/net/inner", "/home/link": "/net/inner", "/home/link/back/e": "", "/aside/f/g": "/net",
		"/network": "", "/home": "", "/": ""} {
		point, is := a.Unsure(path)
		require.Equal(t, at, point, path)
		require.Equal(t, at != "", is, path)
	}
	var none *Answers
	require.False(t, none.Any())
	done := false
	require.NoError(t, none.Ask("/net/a", time.Second, func() { done = true }))
	require.True(t, done)
}

// A caller waits no longer than it says, and not at all while an earlier call does not come
// back; others are not concerned, and when it has come back all goes on.
func TestACallThatIsNotAnsweredIsWaitedForOnce(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		a := shares()
		hang := make(chan struct{})
		var came atomic.Int32
		begun := time.Now()
		require.Equal(t, plan.NoAnswer{Point: "/net"}, a.Ask("/net/a", Patience, func() { <-hang; came.Add(1) }))
		require.Equal(t, Patience, time.Since(begun))
		require.Equal(t, plan.NoAnswer{Point: "/net"}, a.Ask("/net/b", Patience, func() { came.Add(1) }))
		require.Equal(t, Patience, time.Since(begun), "it does not wait again")
		require.NoError(t, a.Ask("/net/inner/c", Patience, func() {}))
		require.NoError(t, a.Ask("/home/d", Patience, func() { time.Sleep(time.Second) }),
			"what is sure to answer is waited for")

		var order []int
		for i := range 3 {
			a.Later("/net/e", func(func()) { order = append(order, i) })
		}
		time.Sleep(time.Minute)
		synctest.Wait()
		require.Equal(t, []int{0, 1, 2}, order, "what is to be done later is done all the same")
		require.Equal(t, map[string]time.Time{"/net": begun}, a.Since())
		close(hang)
		synctest.Wait()
		require.Empty(t, a.Since())
		require.NoError(t, a.Ask("/net/b", Patience, func() { came.Add(1) }))
		require.EqualValues(t, 2, came.Load(), "the call that was given up came back, too")
	})
}

// A file system that takes long for each of many questions answers all the while: since when it has not counts from
// its last answer.
func TestASlowFileSystemAnswers(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		a := shares()
		begun := time.Now()
		a.Later("/net/a", func(answered func()) {
			for range 20 {
				time.Sleep(time.Second)
				answered()
			}
			time.Sleep(time.Hour)
		})
		time.Sleep(15*time.Second + time.Millisecond)
		require.Equal(t, map[string]time.Time{"/net": begun.Add(15 * time.Second)}, a.Since())
		time.Sleep(time.Minute)
		require.Equal(t, map[string]time.Time{"/net": begun.Add(20 * time.Second)}, a.Since())
		time.Sleep(time.Hour)
		require.Empty(t, a.Since())
	})
}

// Many questions to a file system that takes long for each go abreast, and each answer counts.
func TestQuestionsGoAbreast(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		a := shares()
		begun, over := time.Now(), make(chan time.Duration, 1)
		var done [3 * abreast]bool
		a.LaterEach("/net/a", len(done), func(i int) {
			time.Sleep(time.Second)
			done[i] = true
		}, func() { over <- time.Since(begun) })
		time.Sleep(2500 * time.Millisecond)
		require.Equal(t, map[string]time.Time{"/net": begun.Add(2 * time.Second)}, a.Since())
		require.Equal(t, 3*time.Second, <-over)
		require.NotContains(t, done[:], false)
	})
}

// Somebody who must not wait has given up a call to a slow file system: whoever can wait has an answer all the same.
// If it does not answer at all, it is refused at once after as long.
func TestThePatientHaveTheirAnswer(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		a := shares()
		slow := func() { time.Sleep(300 * time.Millisecond) }
		for range 5 {
			require.Error(t, a.Ask("/net/a", Patience, slow))
			require.NoError(t, a.Ask("/net/b", ReachPatience, slow))
		}
		hang := make(chan struct{})
		require.Error(t, a.Ask("/net/a", Patience, func() { <-hang }))
		begun := time.Now()
		require.Error(t, a.Ask("/net/b", ReachPatience, func() { <-hang }))
		require.Equal(t, ReachPatience, time.Since(begun))
		require.Error(t, a.Ask("/net/c", ReachPatience, func() { <-hang }))
		require.Equal(t, ReachPatience, time.Since(begun), "it was waited for")
		close(hang)
	})
}

// What is to be done later waits for what was to be done before it.
func TestLaterIsInOrder(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		a := shares()
		hang := make(chan struct{})
		var did []string
		a.Later("/net/a", func(func()) { <-hang; did = append(did, "a") })
		a.Later("/net/b", func(func()) { did = append(did, "b") })
		inner := make(chan struct{})
		a.Later("/net/inner/c", func(func()) { close(inner) })
		<-inner // another file system
		synctest.Wait()
		require.Empty(t, did)
		close(hang)
		synctest.Wait()
		require.Equal(t, []string{"a", "b"}, did)
	})
}

// A share that is slow, and answers, is waited for longer the next time.
func TestASlowShareGetsItsTime(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		a := shares()
		slow := func() { time.Sleep(400 * time.Millisecond) }
		require.Error(t, a.Ask("/net/a", 250*time.Millisecond, slow))
		time.Sleep(time.Second)
		begun := time.Now()
		require.NoError(t, a.Ask("/net/a", 250*time.Millisecond, slow))
		require.Equal(t, 400*time.Millisecond, time.Since(begun))
		require.Error(t, a.Ask("/net/a", Patience, slow), "who must not wait does not")
		time.Sleep(time.Second) // it comes back
	})
}
