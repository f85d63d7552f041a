//go:build !linux

package runner

// Boot names this start of the system, "" where it has no name for it.
func Boot() string { return "" }
