//go:build unix && !linux

package runner

import (
	"os/exec"
	"runtime"
	"syscall"
)

// maxrssUnit: Darwin counts bytes, the BSDs kilobytes.
var maxrssUnit = map[bool]int64{true: 1, false: 1024}[runtime.GOOS == "darwin" || runtime.GOOS == "ios"]

func ownGroup(cmd *exec.Cmd) { cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true} }

// EndSurvivors does nothing where other processes' environments cannot be read.
func EndSurvivors(string) int { return 0 }
