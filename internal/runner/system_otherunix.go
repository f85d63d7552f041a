//go:build unix && !linux

package runner

import (
	"runtime"
	"syscall"
)

// maxrssUnit: Darwin counts bytes, the BSDs kilobytes.
var maxrssUnit = map[bool]int64{true: 1, false: 1024}[runtime.GOOS == "darwin" || runtime.GOOS == "ios"]

func ownGroup() *syscall.SysProcAttr { return &syscall.SysProcAttr{Setpgid: true} }

// EndSurvivors does nothing where other processes' environments cannot be read.
func EndSurvivors(string) int { return 0 }

// anyRuns reports whether a process of a group is more than a zombie, as far as can be told.
func anyRuns(int) bool { return true }

// exited is not known before a child is waited for.
func exited(int) bool { return false }
