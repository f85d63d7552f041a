package lend

import (
	"time"

	"golang.org/x/sys/unix"
)

// bootTime is the time since the system started, also that in which it slept
// (clock_gettime(2), CLOCK_BOOTTIME).
func bootTime() time.Duration {
	var t unix.Timespec
	if unix.ClockGettime(unix.CLOCK_BOOTTIME, &t) != nil {
		return time.Since(started)
	}
	return time.Duration(t.Nano())
}

var started = time.Now()
