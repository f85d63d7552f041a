package runner

import (
	"os"
	"os/exec"
	"strconv"
	"strings"
	"syscall"

	"golang.org/x/sys/windows"
)

func ownGroup() *syscall.SysProcAttr {
	return &syscall.SysProcAttr{CreationFlags: windows.CREATE_NEW_PROCESS_GROUP}
}

func askToEnd(group int) {
	_ = windows.GenerateConsoleCtrlEvent(windows.CTRL_BREAK_EVENT, uint32(group))
}

// forceEnd ends the command and all below it; the system has no signal for a group.
func forceEnd(group int) {
	_ = exec.Command("taskkill", "/T", "/F", "/PID", strconv.Itoa(group)).Run()
}

func groupAlive(group int) bool {
	h, err := windows.OpenProcess(windows.SYNCHRONIZE, false, uint32(group))
	if err != nil {
		return false
	}
	defer windows.CloseHandle(h)
	event, err := windows.WaitForSingleObject(h, 0)
	return err == nil && event == uint32(windows.WAIT_TIMEOUT)
}

// sameName compares names of the environment.
func sameName(a, b string) bool { return strings.EqualFold(a, b) }

// descriptor is an open file.
type descriptor struct{ *os.File }

func descriptorOf(f *os.File) descriptor { return descriptor{f} }

func openFile(path string, flag int, perm os.FileMode) (descriptor, error) {
	f, err := os.OpenFile(path, flag, perm)
	return descriptor{f}, err
}

// size is the file's size in bytes, 0 if that cannot be told.
func (d descriptor) size() int64 {
	info, err := d.Stat()
	if err != nil {
		return 0
	}
	return info.Size()
}

func (d descriptor) close() { d.Close() }

// child is the process of a command.
type child struct{ process *os.Process }

// start starts a command in a process group of its own.
func start(c command, args []string) (child, error) {
	process, err := os.StartProcess(c.path, args, &os.ProcAttr{Dir: c.dir, Env: c.env,
		Files: []*os.File{c.files[0].File, c.files[1].File, c.files[2].File}, Sys: ownGroup()})
	return child{process}, err
}

func (c child) pid() int { return c.process.Pid }

// wait waits for the end, and tells what the command used.
func (c child) wait(bool) Result {
	state, err := c.process.Wait()
	if err != nil {
		return Result{Exit: 127, Err: err}
	}
	return Result{Exit: state.ExitCode(), CPU: state.UserTime() + state.SystemTime()}
}

// EndSurvivors does nothing where other processes' environments cannot be read.
func EndSurvivors(string) int { return 0 }

// exited is not known before a child is waited for.
func exited(int) bool { return false }

// HasTerminal reports whether a terminal can be given to a command: here it cannot be.
func HasTerminal() bool { return false }

func takeTerminal() {}
