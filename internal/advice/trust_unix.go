//go:build unix

package advice

import (
	"os"
	"os/user"
	"strconv"
	"syscall"
)

// changeable says which other user can change a file or a folder, "" if none can. What is
// root's is trusted, since root can do all of it anyway.
func changeable(path string) string {
	info, err := os.Stat(path)
	if err != nil {
		return "" // the caller that needs it reports that it is missing
	}
	st, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return ""
	}
	mode := info.Mode().Perm()
	sticky := info.IsDir() && info.Mode()&os.ModeSticky != 0 // there each user changes his own alone
	switch {
	case st.Uid != 0 && int(st.Uid) != os.Geteuid():
		return "the user " + nameOf(int(st.Uid))
	case mode&0o002 != 0 && !sticky:
		return "every user of this machine"
	case mode&0o020 != 0 && !sticky && st.Gid != 0 && int(st.Gid) != os.Getegid():
		return "the group " + groupOf(int(st.Gid))
	}
	return ""
}

func nameOf(id int) string {
	if u, err := user.LookupId(strconv.Itoa(id)); err == nil {
		return u.Username
	}
	return strconv.Itoa(id)
}

func groupOf(id int) string {
	if g, err := user.LookupGroupId(strconv.Itoa(id)); err == nil {
		return g.Name
	}
	return strconv.Itoa(id)
}
