package runner

import (
	"os/exec"
	"strconv"
	"syscall"

	"golang.org/x/sys/windows"
)

func ownGroup(cmd *exec.Cmd) {
	cmd.SysProcAttr = &syscall.SysProcAttr{CreationFlags: windows.CREATE_NEW_PROCESS_GROUP}
}

func askToEnd(cmd *exec.Cmd) {
	_ = windows.GenerateConsoleCtrlEvent(windows.CTRL_BREAK_EVENT, uint32(cmd.Process.Pid))
}

// forceEnd ends the command and all below it; the system has no signal for a group.
func forceEnd(cmd *exec.Cmd) {
	_ = exec.Command("taskkill", "/T", "/F", "/PID", strconv.Itoa(cmd.Process.Pid)).Run()
}

func groupAlive(cmd *exec.Cmd) bool {
	h, err := windows.OpenProcess(windows.SYNCHRONIZE, false, uint32(cmd.Process.Pid))
	if err != nil {
		return false
	}
	defer windows.CloseHandle(h)
	event, err := windows.WaitForSingleObject(h, 0)
	return err == nil && event == uint32(windows.WAIT_TIMEOUT)
}

func outcome(cmd *exec.Cmd, err error) Result {
	st := cmd.ProcessState
	if st == nil {
		return Result{Exit: 127, Err: err}
	}
	return Result{Exit: st.ExitCode(), CPU: st.UserTime() + st.SystemTime()}
}

// EndSurvivors does nothing where other processes' environments cannot be read.
func EndSurvivors(string) int { return 0 }
