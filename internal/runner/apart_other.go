//go:build !linux

package runner

// starter is of other systems.
type starter struct{}

// Starts is of other systems.
const Starts = ""

// Apart has nothing to do on this system.
func (*Runner) Apart() {}

// Close has nothing to do on this system.
func (*Runner) Close() {}

func (*Runner) start(c command, args []string) (process, error) { return start(c, args) }

// ServeStarts is for other systems.
func ServeStarts() bool { return false }
