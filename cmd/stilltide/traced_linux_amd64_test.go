package main

import (
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// fail has a call not made, and end with an error.
func fail(errno unix.Errno) injection {
	return func(t *testing.T, _, thread int) func() {
		var r unix.PtraceRegs
		require.NoError(t, unix.PtraceGetRegs(thread, &r))
		r.Orig_rax = ^uint64(0) // no such call
		require.NoError(t, unix.PtraceSetRegs(thread, &r))
		return func() {
			require.NoError(t, unix.PtraceGetRegs(thread, &r))
			r.Rax = -uint64(errno)
			require.NoError(t, unix.PtraceSetRegs(thread, &r))
		}
	}
}

// At each call that changes files, one after the other, that call fails once. Nothing is lost,
// and with the disk well again the same command brings everything to where it belongs, once,
// with nothing left over.
func TestEachCallFailsOnce(t *testing.T) {
	t.Parallel()
	mayTrace(t)
	program, err := built()
	require.NoError(t, err)
	errs := []unix.Errno{unix.EIO, unix.ENOSPC, unix.EACCES, unix.EINTR}
	for row, e := range endings {
		t.Run(e.name, func(t *testing.T) {
			t.Parallel()
			atCalls(t, func(at int) (r reached) {
				for i, errno := range errs {
					if *everyError || i == (at+row)%len(errs) {
						r = e.end(t, program, at, unix.ErrnoName(errno), fail(errno))
					}
				}
				return r
			})
		})
	}
}
