package watchfs

import (
	"os"
	"strings"
)

// unsure are the types of file systems that another machine or another program answers
// for, so that a call may wait for ever. Those of a kind have names that begin alike.
var unsure = []string{"nfs", "cifs", "smb", "9p", "fuse", "afs", "ceph", "coda", "lustre", "autofs", "virtiofs",
	"vboxsf", "ocfs2", "gfs2", "beegfs", "pvfs2"}

// UnsureMounts returns the mount points of file systems that may not answer. It asks the
// mount table alone (proc_pid_mountinfo(5)), and none of them.
func UnsureMounts() (points []string) {
	table, err := os.ReadFile("/proc/self/mountinfo")
	if err != nil {
		return nil
	}
	for _, line := range strings.Split(string(table), "\n") {
		mount, rest, ok := strings.Cut(line, " - ")
		fields := strings.Fields(mount)
		if !ok || len(fields) < 5 || fields[4] == "/" {
			continue
		}
		for _, kind := range unsure {
			if strings.HasPrefix(rest, kind) {
				points = append(points, unescaped(fields[4]))
				break
			}
		}
	}
	return points
}
