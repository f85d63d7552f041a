//go:build !linux

package lend

import "time"

var started = time.Now().Round(0) // the time of day goes on while the system sleeps

// bootTime is the time since the program started.
func bootTime() time.Duration { return time.Now().Round(0).Sub(started) }
