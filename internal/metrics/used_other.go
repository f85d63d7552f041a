//go:build !linux

package metrics

// used is not known on this system.
func used() (u usage, ok bool) { return u, false }
