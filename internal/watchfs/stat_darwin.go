package watchfs

import (
	"io/fs"
	"syscall"

	"stilltide/internal/core/file"
)

func system(info fs.FileInfo, f *file.Facts) {
	if st, ok := info.Sys().(*syscall.Stat_t); ok {
		f.Dev, f.Ino = uint64(st.Dev), st.Ino
		f.Change = file.Unix(st.Ctimespec.Unix())
	}
}
