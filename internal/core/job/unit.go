package job

import "stilltide/internal/core/file"

// Unit is one file of a job and where it is now.
type Unit struct {
	Taken    string
	At       string // "" if it is nowhere
	Facts    file.Facts
	Captures map[string]string
}
