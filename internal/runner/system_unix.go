//go:build unix

package runner

import (
	"os"
	"syscall"

	"golang.org/x/sys/unix"
)

func askToEnd(group int) { unix.Kill(-group, unix.SIGTERM) }
func forceEnd(group int) { unix.Kill(-group, unix.SIGKILL) }

// groupAlive tells whether any process of the group is left.
func groupAlive(group int) bool { return unix.Kill(-group, 0) == nil }

// sameName compares names of the environment.
func sameName(a, b string) bool { return a == b }

// outcome reads how the command ended and what it used (getrusage(2)).
func outcome(st *os.ProcessState) Result {
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
