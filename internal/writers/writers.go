// Package writers finds the processes that have a file open for writing.
package writers

// Process is one that has a file open for writing.
type Process struct {
	PID     int
	Program string
}
