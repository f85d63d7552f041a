//go:build unix

package runner

import (
	"os/exec"
	"syscall"

	"golang.org/x/sys/unix"
)

func askToEnd(cmd *exec.Cmd) { unix.Kill(-cmd.Process.Pid, unix.SIGTERM) }
func forceEnd(cmd *exec.Cmd) { unix.Kill(-cmd.Process.Pid, unix.SIGKILL) }

// groupAlive tells whether any process of the group is left.
func groupAlive(cmd *exec.Cmd) bool { return unix.Kill(-cmd.Process.Pid, 0) == nil }

// outcome reads how the command ended and what it used (getrusage(2)).
func outcome(cmd *exec.Cmd, err error) Result {
	st := cmd.ProcessState
	if st == nil {
		return Result{Exit: 127, Err: err}
	}
	res := Result{Exit: st.ExitCode(), CPU: st.UserTime() + st.SystemTime()}
	if ws, ok := st.Sys().(syscall.WaitStatus); ok && ws.Signaled() {
		res.Exit = 128 + int(ws.Signal())
		res.Signal = unix.SignalName(ws.Signal())
	}
	if ru, ok := st.SysUsage().(*syscall.Rusage); ok {
		res.Memory = int64(ru.Maxrss) * maxrssUnit
	}
	return res
}
