//go:build unix

package runner

import (
	"fmt"
	"os"
	"os/signal"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

func askToEnd(group int) { unix.Kill(-group, unix.SIGTERM) }
func forceEnd(group int) { unix.Kill(-group, unix.SIGKILL) }

// groupAlive reports whether any process of the group is left that still runs. One that
// has ended and waits for its parent to notice does not count: some systems have nobody
// who notices.
func groupAlive(group int) bool { return unix.Kill(-group, 0) == nil && anyRuns(group) }

// sameName compares names of the environment.
func sameName(a, b string) bool { return a == b }

// descriptor is an open file. An os.File would be offered to the poller, which
// does not take regular files, and be watched over by the collector.
type descriptor int

func descriptorOf(f *os.File) descriptor { return descriptor(f.Fd()) }

func openFile(path string, flag int, perm uint32) (descriptor, error) {
	for {
		fd, err := unix.Open(path, flag|unix.O_CLOEXEC, perm)
		if err == nil {
			return descriptor(fd), nil
		}
		if err != unix.EINTR {
			return -1, &os.PathError{Op: "open", Path: path, Err: err}
		}
	}
}

// size is the file's size in bytes, 0 if that cannot be told.
func (d descriptor) size() int64 {
	var st unix.Stat_t
	if unix.Fstat(int(d), &st) != nil {
		return 0
	}
	return st.Size
}

func (d descriptor) close() { unix.Close(int(d)) }

// child is the process of a command, by its number. Nothing else waits for it, so
// that the number is its own until wait returns.
type child int

// goThere has a shell go to a folder, open what is to be read, and become a program, with its arguments.
const goThere = `cd -- "$1" && { [ -z "$2" ] || exec < "$2"; } && shift 2 && exec "$@"`

// start starts a command in a process group of its own.
func start(c command, args []string) (child, error) {
	files := [...]uintptr{uintptr(c.files[0]), uintptr(c.files[1]), uintptr(c.files[2])}
	sys := ownGroup()
	if c.terminal {
		sys.Foreground, sys.Ctty = true, int(os.Stdin.Fd())
	}
	if c.far {
		args = append([]string{"sh", "-c", goThere, "sh", c.dir, c.in, c.path}, args[1:]...)
		c.path, c.dir = "/bin/sh", "/"
	}
	pid, err := syscall.ForkExec(c.path, args, &syscall.ProcAttr{Dir: c.dir, Env: c.env, Files: files[:], Sys: sys})
	return child(pid), err
}

// HasTerminal reports whether this program's standard input is a terminal, and it is in its
// foreground, so that it can give it to a command.
func HasTerminal() bool {
	group, err := unix.IoctlGetInt(int(os.Stdin.Fd()), unix.TIOCGPGRP)
	return err == nil && group == unix.Getpgrp()
}

// takeTerminal brings this program back to the foreground. Who is not there would be stopped by
// SIGTTOU when it asks for that (tcsetpgrp(3)).
func takeTerminal() {
	signal.Ignore(syscall.SIGTTOU)
	defer signal.Reset(syscall.SIGTTOU)
	_ = unix.IoctlSetPointerInt(int(os.Stdin.Fd()), unix.TIOCSPGRP,
		unix.Getpgrp()) // a terminal that is gone needs nobody
}

func (c child) pid() int { return int(c) }

// wait waits for the end, and tells what the command used (wait4(2), getrusage(2)). One that has
// the terminal is not stopped by its Ctrl-Z: nobody could continue it.
func (c child) wait(terminal bool) Result {
	var status syscall.WaitStatus
	var used syscall.Rusage
	options := 0
	if terminal {
		options = syscall.WUNTRACED
	}
	for {
		_, err := syscall.Wait4(int(c), &status, options, &used)
		if err == syscall.EINTR {
			continue
		}
		if err == nil && status.Stopped() {
			_ = unix.Kill(-int(c), unix.SIGCONT) // it may have ended meanwhile
			continue
		}
		if err != nil {
			return Result{Exit: 127, Err: fmt.Errorf("waiting for the command failed: %w", err)}
		}
		break
	}
	res := Result{Exit: status.ExitStatus(), CPU: span(used.Utime) + span(used.Stime), Memory: ownPeak(used)}
	if status.Signaled() {
		res.Exit = 128 + int(status.Signal())
		res.Signal = unix.SignalName(status.Signal())
	}
	return res
}

// ownPeak is the most memory that a command had, 0 if that cannot be told: a child begins with
// the memory of its parent, whose peak is charged to it, too. What is more than that is its own.
func ownPeak(used syscall.Rusage) int64 {
	var us syscall.Rusage
	if syscall.Getrusage(syscall.RUSAGE_SELF, &us) != nil || used.Maxrss <= us.Maxrss {
		return 0
	}
	return int64(used.Maxrss) * maxrssUnit
}

func span(t syscall.Timeval) time.Duration { return time.Duration(t.Nano()) }
