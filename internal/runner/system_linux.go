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
	mark := []byte("\x00TIDE_LEDGER=" + ledger + "\x00")
	pids := marked(mark)
	for _, pid := range pids {
		unix.Kill(pid, unix.SIGKILL)
	}
	for i := 0; len(pids) > 0 && i < 500 && len(marked(mark)) > 0; i++ {
		time.Sleep(10 * time.Millisecond)
	}
	return len(pids)
}

func marked(mark []byte) []int {
	entries, err := os.ReadDir("/proc")
	if err != nil {
		return nil
	}
	var pids []int
	for _, e := range entries {
		pid, err := strconv.Atoi(e.Name())
		if err != nil || pid == os.Getpid() {
			continue
		}
		env, err := os.ReadFile("/proc/" + e.Name() + "/environ")
		if err == nil && bytes.Contains(append([]byte{0}, env...), mark) {
			pids = append(pids, pid)
		}
	}
	return pids
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
		stat, err := os.ReadFile("/proc/" + e.Name() + "/stat")
		if err != nil {
			continue
		}
		fields := bytes.Fields(stat[bytes.LastIndexByte(stat, ')')+1:])
		if len(fields) > 2 && string(fields[0]) != "Z" && string(fields[0]) != "X" &&
			string(fields[2]) == strconv.Itoa(group) {
			return true
		}
	}
	return false
}

// exited reports whether a child has ended, and leaves it to be waited for (waitid(2)).
func exited(pid int) bool {
	var info unix.Siginfo
	err := unix.Waitid(unix.P_PID, pid, &info, unix.WEXITED|unix.WNOHANG|unix.WNOWAIT, nil)
	return err == nil && info.Signo == int32(unix.SIGCHLD) || err == unix.ECHILD
}
