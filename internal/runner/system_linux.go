package runner

import (
	"bytes"
	"os"
	"strconv"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

const maxrssUnit = 1024 // getrusage(2): kilobytes

func ownGroup() *syscall.SysProcAttr {
	return &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGKILL}
}

// EndSurvivors ends the processes that an earlier watcher of this ledger left
// behind, and waits until they are gone. They are known by their environment
// (proc_pid_environ(5)).
func EndSurvivors(ledger string) int {
	s := survivors{mark: []byte("\x00TIDE_LEDGER=" + ledger + "\x00"), ended: map[int]bool{}, silent: map[int]bool{}}
	for range 500 {
		pids := s.found()
		if len(pids) == 0 {
			break
		}
		for _, pid := range pids {
			s.ended[pid] = true
			unix.Kill(pid, unix.SIGKILL)
		}
		time.Sleep(10 * time.Millisecond)
	}
	return len(s.ended)
}

// survivors are the processes that have a mark in their environment.
type survivors struct {
	mark   []byte
	ended  map[int]bool
	silent map[int]bool // those that did not tell their environment: each is asked once
}

func (s *survivors) found() (pids []int) {
	entries, err := os.ReadDir("/proc")
	if err != nil {
		return nil
	}
	for _, e := range entries {
		pid, err := strconv.Atoi(e.Name())
		if err != nil || pid == os.Getpid() || s.silent[pid] {
			continue
		}
		env, err := environ(e.Name())
		s.silent[pid] = err == os.ErrDeadlineExceeded
		if err == nil && bytes.Contains(append([]byte{0}, env...), s.mark) {
			pids = append(pids, pid)
		}
	}
	return pids
}

// environPatience is how long a process is waited for.
const environPatience = time.Second

// environ reads the environment of a process. One that waits, as it becomes another program, for a file system that
// does not answer does not tell it.
func environ(pid string) (env []byte, err error) {
	type answer struct {
		env []byte
		err error
	}
	told := make(chan answer, 1)
	go func() { // ends when it is told
		env, err := os.ReadFile("/proc/" + pid + "/environ")
		told <- answer{env, err}
	}()
	select {
	case a := <-told:
		return a.env, a.err
	case <-time.After(environPatience):
		return nil, os.ErrDeadlineExceeded
	}
}

// anyRuns reports whether a process of a group is more than a zombie (proc_pid_stat(5)).
func anyRuns(group int) bool {
	entries, err := os.ReadDir("/proc")
	if err != nil {
		return true
	}
	for _, e := range entries {
		if e.Name()[0] < '0' || e.Name()[0] > '9' {
			continue
		}
		if state, its := stateOf(e.Name()); its == strconv.Itoa(group) && runs(state) {
			return true
		}
	}
	return false
}

// stateOf returns a process's state and group, "" for one that is gone.
func stateOf(pid string) (state, group string) {
	stat, err := os.ReadFile("/proc/" + pid + "/stat")
	if err != nil {
		return "", ""
	}
	fields := bytes.Fields(stat[bytes.LastIndexByte(stat, ')')+1:])
	if len(fields) < 3 {
		return "", ""
	}
	return string(fields[0]), string(fields[2])
}

// runs reports whether a process in a state is more than a zombie.
func runs(state string) bool { return state != "" && state != "Z" && state != "X" }

// exited reports whether a command's process has ended, and leaves it to be waited for (waitid(2)). One that another
// process has started is no child of this one (proc_pid_stat(5)).
func exited(pid int) bool {
	var info unix.Siginfo
	err := unix.Waitid(unix.P_PID, pid, &info, unix.WEXITED|unix.WNOHANG|unix.WNOWAIT, nil)
	if err != unix.ECHILD {
		return err == nil && info.Signo == int32(unix.SIGCHLD)
	}
	state, _ := stateOf(strconv.Itoa(pid))
	return !runs(state)
}
