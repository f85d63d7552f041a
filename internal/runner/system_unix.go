//go:build unix

package runner

import (
	"fmt"
	"runtime"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

func askToEnd(group int) { unix.Kill(-group, unix.SIGTERM) }
func forceEnd(group int) { unix.Kill(-group, unix.SIGKILL) }

// groupAlive tells whether any process of the group is left.
func groupAlive(group int) bool { return unix.Kill(-group, 0) == nil }

// sameName compares names of the environment.
func sameName(a, b string) bool { return a == b }

// child is the process of a command, by its number. Nothing else waits for it, so
// that the number is its own until wait returns.
type child int

// start starts a command in a process group of its own.
func start(c command, args []string) (child, error) {
	files := [...]uintptr{c.files[0].Fd(), c.files[1].Fd(), c.files[2].Fd()}
	pid, err := syscall.ForkExec(c.path, args, &syscall.ProcAttr{Dir: c.dir, Env: c.env, Files: files[:], Sys: ownGroup()})
	runtime.KeepAlive(c)
	return child(pid), err
}

func (c child) pid() int { return int(c) }

// wait waits for the end, and tells what the command used (wait4(2), getrusage(2)).
func (c child) wait() Result {
	var status syscall.WaitStatus
	var used syscall.Rusage
	for {
		_, err := syscall.Wait4(int(c), &status, 0, &used)
		if err == syscall.EINTR {
			continue
		}
		if err != nil {
			return Result{Exit: 127, Err: fmt.Errorf("the end of the command cannot be waited for: %w", err)}
		}
		break
	}
	res := Result{Exit: status.ExitStatus(), CPU: span(used.Utime) + span(used.Stime), Memory: int64(used.Maxrss) * maxrssUnit}
	if status.Signaled() {
		res.Exit = 128 + int(status.Signal())
		res.Signal = unix.SignalName(status.Signal())
	}
	return res
}

func span(t syscall.Timeval) time.Duration { return time.Duration(t.Nano()) }
