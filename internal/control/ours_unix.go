//go:build unix

package control

import (
	"io/fs"
	"os"
	"syscall"
)

// ours reports whether a file is this user's, or root's.
func ours(info fs.FileInfo) bool {
	st, ok := info.Sys().(*syscall.Stat_t)
	return ok && (st.Uid == 0 || int(st.Uid) == os.Geteuid())
}
