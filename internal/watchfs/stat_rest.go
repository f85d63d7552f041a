//go:build !linux && !darwin

package watchfs

import (
	"io/fs"

	"stilltide/internal/core/file"
)

// system has nothing to add where files have no inode numbers to read.
func system(fs.FileInfo, *file.Facts) {}
