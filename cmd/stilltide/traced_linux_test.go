package main

import (
	"os"
	"os/exec"
	"runtime"
	"syscall"
	"testing"
	"unsafe"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"stilltide/internal/machine"
)

// fileCalls are the system calls that change what is on a disk, or see that it is there.
var fileCalls = map[uint64]string{
	unix.SYS_RENAMEAT2: "renameat2", unix.SYS_UNLINKAT: "unlinkat", unix.SYS_MKDIRAT: "mkdirat",
	unix.SYS_LINKAT: "linkat",
	unix.SYS_FSYNC:  "fsync", unix.SYS_FTRUNCATE: "ftruncate", unix.SYS_COPY_FILE_RANGE: "copy_file_range",
	unix.SYS_FCHMOD: "fchmod", unix.SYS_UTIMENSAT: "utimensat",
}

// injection is what becomes of a call. It is told when a thread is about to make it; the
// function that it returns, if any, is called when the call is over.
type injection func(t *testing.T, pid, thread int) (end func())

// kill ends the program by force.
func kill(t *testing.T, pid, _ int) func() {
	require.NoError(t, unix.Kill(pid, unix.SIGKILL))
	return nil
}

// reached is how far a program came that is traced.
type reached struct {
	call  string // into which something was injected; "" if the program ended by itself before
	calls int    // until then
}

// traced runs a program, and injects something at its call number at of those that are
// named, counted over all its threads; strace(1) counts each thread's own.
func traced(t *testing.T, at int, calls map[uint64]string, inject injection, c *exec.Cmd) (r reached) {
	t.Helper()
	runtime.LockOSThread() // a process is traced by a thread
	defer runtime.UnlockOSThread()
	c.SysProcAttr = &syscall.SysProcAttr{Ptrace: true, Setpgid: true}
	require.NoError(t, c.Start())
	pid := c.Process.Pid
	var status unix.WaitStatus
	_, err := unix.Wait4(pid, &status, unix.WALL, nil)
	require.NoError(t, err)
	require.NoError(t, unix.PtraceSetOptions(pid,
		unix.PTRACE_O_TRACESYSGOOD|unix.PTRACE_O_TRACECLONE|unix.PTRACE_O_EXITKILL))
	require.NoError(t, unix.PtraceSyscall(pid, 0))
	ends := map[int]func(){} // by thread
	for {
		thread, err := unix.Wait4(-pid, &status, unix.WALL, nil)
		if err == unix.EINTR {
			continue
		}
		require.NoError(t, err)
		signal := 0
		switch {
		case !status.Stopped():
			if thread != pid {
				continue
			}
			_ = c.Process.Release()
			return r
		case status.StopSignal() == unix.SIGTRAP|0x80:
			if end := ends[thread]; end != nil {
				end()
				delete(ends, thread)
			} else if call := calls[entered(thread)]; call != "" && r.call == "" {
				if r.calls++; r.calls == at {
					r.call = call
					ends[thread] = inject(t, pid, thread)
				}
			}
		case status.StopSignal() != unix.SIGTRAP && status.StopSignal() != unix.SIGSTOP:
			signal = int(status.StopSignal())
		}
		goOn := unix.PtraceSyscall
		if r.call != "" && len(ends) == 0 {
			goOn = unix.PtraceCont // no further call matters
		}
		_ = goOn(thread, signal) // it may be gone already
	}
}

// entered is the number of the call that a stopped thread is about to make; see ptrace(2),
// PTRACE_GET_SYSCALL_INFO.
func entered(thread int) uint64 {
	var info struct {
		op     uint8
		_      [3]uint8
		arch   uint32
		ip, sp uint64
		call   uint64
		args   [6]uint64
	}
	_, _, errno := unix.Syscall6(unix.SYS_PTRACE, unix.PTRACE_GET_SYSCALL_INFO, uintptr(thread),
		unsafe.Sizeof(info), uintptr(unsafe.Pointer(&info)), 0, 0)
	if errno != 0 || info.op != unix.PTRACE_SYSCALL_INFO_ENTRY {
		return ^uint64(0)
	}
	return info.call
}

// mayTrace skips the test where a process may not trace its own children.
func mayTrace(t *testing.T) {
	c := exec.Command(os.Args[0], "-test.run=^$")
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	c.SysProcAttr = &syscall.SysProcAttr{Ptrace: true}
	if err := c.Start(); err != nil {
		machine.Lacks(t, "tracing is not allowed here: "+err.Error())
	}
	_ = c.Process.Kill()
	_ = c.Wait()
}
