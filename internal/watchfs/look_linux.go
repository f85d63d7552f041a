package watchfs

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"stilltide/internal/core/file"
)

func system(info fs.FileInfo, f *file.Facts) {
	if st, ok := info.Sys().(*syscall.Stat_t); ok {
		f.Dev, f.Ino = uint64(st.Dev), st.Ino
		f.Change = file.Unix(st.Ctim.Unix())
	}
}

func gone(err error) bool {
	return errors.Is(err, unix.ENOENT) || errors.Is(err, unix.ENOTDIR)
}

// Look is Stat, and asks whether somebody has the file open for writing. A
// read lease is refused with EAGAIN while that is so (fcntl(2)); closing gives
// it back at once. The file is opened so that neither a link nor a FIFO can do
// harm. Where the system cannot tell, Writers is Unknown.
func Look(path string) (file.Facts, error) { return lookAt(unix.AT_FDCWD, "", path) }

// LookIn is Look for a name in an open folder.
func LookIn(dir *os.File, name string) (file.Facts, error) {
	return lookAt(int(dir.Fd()), dir.Name(), name)
}

// StatIn is Stat for a name in an open folder.
func StatIn(dir *os.File, name string) (file.Facts, error) {
	return lstatAt(int(dir.Fd()), dir.Name(), name)
}

// lookAt is Look for a name in an open folder, which has that descriptor and that path.
func lookAt(dir int, folder, name string) (file.Facts, error) {
	fd, err := unix.Openat(dir, name, unix.O_RDONLY|unix.O_NONBLOCK|unix.O_NOFOLLOW|unix.O_CLOEXEC|unix.O_NOCTTY, 0)
	if err != nil {
		f, err := lstatAt(dir, folder, name)
		if f.Exists && !f.Regular && !f.Dir {
			f.Writers = file.None // a link or a socket has no content to write
		}
		return f, err
	}
	defer unix.Close(fd)
	// The facts are read while the lease is held: a writer cannot have come
	// and gone between the two.
	_, leaseErr := unix.FcntlInt(uintptr(fd), unix.F_SETLEASE, unix.F_RDLCK)
	var st unix.Stat_t
	if err = unix.Fstat(fd, &st); err != nil {
		return file.Facts{}, err
	}
	f := FromStat(&st)
	if f.Regular {
		f.Writers = writers(fd, f.Dev, leaseErr)
	}
	return f, nil
}

// lstat returns the facts of a path that is there.
func lstat(path string) (file.Facts, error) { return statAt(unix.AT_FDCWD, "", path) }

// lstatAt is Stat for a name in an open folder.
func lstatAt(dir int, folder, name string) (file.Facts, error) {
	f, err := statAt(dir, folder, name)
	if err != nil && gone(err) {
		return file.Facts{}, nil
	}
	return f, err
}

func statAt(dir int, folder, name string) (file.Facts, error) {
	var st unix.Stat_t
	err := unix.Fstatat(dir, name, &st, unix.AT_SYMLINK_NOFOLLOW)
	for err == unix.EINTR { // a file system in a program may say so
		err = unix.Fstatat(dir, name, &st, unix.AT_SYMLINK_NOFOLLOW)
	}
	if err != nil {
		return file.Facts{}, &fs.PathError{Op: "lstat", Path: filepath.Join(folder, name), Err: err}
	}
	return FromStat(&st), nil
}

// FromStat takes the facts from what stat(2) gives.
func FromStat(st *unix.Stat_t) file.Facts {
	return file.Facts{
		Exists:  true,
		Dir:     st.Mode&unix.S_IFMT == unix.S_IFDIR,
		Regular: st.Mode&unix.S_IFMT == unix.S_IFREG,
		Size:    st.Size,
		Mod:     file.Unix(st.Mtim.Unix()),
		Change:  file.Unix(st.Ctim.Unix()),
		Dev:     uint64(st.Dev),
		Ino:     st.Ino,
		Mode:    st.Mode & 0o7777,
	}
}

// writers reads the answer to the asked lease.
func writers(fd int, dev uint64, err error) file.Writers {
	switch {
	case err == nil:
		if disks.remote(fd, dev) {
			return file.Unknown
		}
		return file.None
	case errors.Is(err, unix.EAGAIN):
		return file.Some
	}
	return file.Unknown
}

// remoteTypes are file systems where another machine, or a program in
// between, may write without this system knowing (statfs(2)).
var remoteTypes = map[int64]bool{
	unix.NFS_SUPER_MAGIC: true, unix.SMB_SUPER_MAGIC: true, unix.SMB2_SUPER_MAGIC: true,
	unix.CIFS_SUPER_MAGIC: true,
	unix.FUSE_SUPER_MAGIC: true, unix.V9FS_MAGIC: true, unix.AFS_SUPER_MAGIC: true, unix.CEPH_SUPER_MAGIC: true,
	unix.CODA_SUPER_MAGIC: true, unix.OCFS2_SUPER_MAGIC: true,
	0x6a656a63: true, // virtiofs reports FUSE's or its own number, by version
	0x01161970: true, // GFS2
	0x0BD00BD0: true, // Lustre
}

// devices remembers for a moment which devices are remote: a burst of files
// asks thousands of times. (A number may soon stand for another device.)
type devices struct {
	mu    sync.Mutex
	asked map[uint64]bool
	until time.Time
}

var disks devices

const askedAgain = time.Second

func (d *devices) remote(fd int, dev uint64) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	if now := time.Now(); now.After(d.until) {
		d.asked, d.until = map[uint64]bool{}, now.Add(askedAgain)
	}
	is, known := d.asked[dev]
	if !known {
		var st unix.Statfs_t
		is = unix.Fstatfs(fd, &st) == nil && remoteTypes[int64(st.Type)]
		d.asked[dev] = is
	}
	return is
}

// openFolder opens a folder. An os.File of os.Open would be offered to the poller, which takes no folders: of a tree of
// 100,000 that is a tenth of the time.
func openFolder(path string) (*os.File, error) {
	fd, err := openAt(unix.AT_FDCWD, path, unix.O_RDONLY|unix.O_DIRECTORY)
	if err != nil {
		return nil, &os.PathError{Op: "open", Path: path, Err: err}
	}
	return os.NewFile(uintptr(fd), path), nil
}

// Remote reports whether a path lies on a file system that sends no events of
// other machines' changes.
func Remote(path string) bool {
	var st unix.Statfs_t
	return unix.Statfs(path, &st) == nil && remoteTypes[int64(st.Type)]
}
