// Package caseblind is a stand-in, for tests, for case-insensitive file systems that
// also ignore how an accent is encoded: memory cards, sticks, and network shares. It
// presents a folder that way over FUSE.
package caseblind

import (
	"context"
	"hash/fnv"
	"os"
	"path/filepath"
	"strings"
	"syscall"

	"github.com/hanwen/go-fuse/v2/fs"
	"github.com/hanwen/go-fuse/v2/fuse"
	"golang.org/x/sys/unix"
	"golang.org/x/text/unicode/norm"

	"stilltide/internal/standin/stick"
)

// Mount shows a folder at another one, without regard to case, until the returned
// function is called. It needs the right to mount.
func Mount(folder, at string) (unmount func() error, err error) {
	root := &node{name: folder}
	server, err := fs.Mount(at, root, &fs.Options{MountOptions: fuse.MountOptions{DirectMountStrict: true,
		FsName: "caseblind", Name: "caseblind"}})
	if err != nil {
		return nil, err
	}
	return func() error { return stick.Unmount(server, at) }, nil
}

// node is a file or folder, known by its folder and the name that it was made with.
type node struct {
	fs.Inode
	up   *node
	name string // the whole path of the root
}

func (n *node) path() string {
	if n.up == nil {
		return n.name
	}
	return filepath.Join(n.up.path(), n.name)
}

// spelled returns the name that a folder has for a name, or the name itself.
func (n *node) spelled(name string) string {
	entries, err := os.ReadDir(n.path())
	if err != nil {
		return name
	}
	for _, e := range entries {
		if strings.EqualFold(norm.NFC.String(e.Name()), norm.NFC.String(name)) {
			return e.Name()
		}
	}
	return name
}

func (n *node) child(ctx context.Context, name string, out *fuse.EntryOut) (*fs.Inode, syscall.Errno) {
	var st syscall.Stat_t
	name = n.spelled(name)
	if err := syscall.Lstat(filepath.Join(n.path(), name), &st); err != nil {
		return nil, fs.ToErrno(err)
	}
	out.FromStat(&st)
	// The generation tells nodes of one inode apart that was renamed behind our back.
	path := fnv.New64a()
	path.Write([]byte(filepath.Join(n.path(), name)))
	return n.NewInode(ctx, &node{up: n, name: name}, fs.StableAttr{Mode: st.Mode & syscall.S_IFMT, Ino: st.Ino,
		Gen: path.Sum64()}), 0
}

func (n *node) Lookup(ctx context.Context, name string, out *fuse.EntryOut) (*fs.Inode, syscall.Errno) {
	return n.child(ctx, name, out)
}

func (n *node) Getattr(_ context.Context, _ fs.FileHandle, out *fuse.AttrOut) syscall.Errno {
	var st syscall.Stat_t
	if err := syscall.Lstat(n.path(), &st); err != nil {
		return fs.ToErrno(err)
	}
	out.FromStat(&st)
	return 0
}

func (n *node) Setattr(ctx context.Context, h fs.FileHandle, in *fuse.SetAttrIn, out *fuse.AttrOut) syscall.Errno {
	if mode, ok := in.GetMode(); ok {
		if err := os.Chmod(n.path(), os.FileMode(mode)&os.ModePerm); err != nil {
			return fs.ToErrno(err)
		}
	}
	if size, ok := in.GetSize(); ok {
		if err := os.Truncate(n.path(), int64(size)); err != nil {
			return fs.ToErrno(err)
		}
	}
	if at, ok := in.GetMTime(); ok {
		if err := os.Chtimes(n.path(), at, at); err != nil {
			return fs.ToErrno(err)
		}
	}
	return n.Getattr(ctx, h, out)
}

func (n *node) Open(_ context.Context, flags uint32) (fs.FileHandle, uint32, syscall.Errno) {
	fd, err := syscall.Open(n.path(), int(flags)&^syscall.O_CREAT, 0)
	if err != nil {
		return nil, 0, fs.ToErrno(err)
	}
	return fs.NewLoopbackFile(fd), 0, 0
}

func (n *node) Create(ctx context.Context, name string, flags, mode uint32, out *fuse.EntryOut) (*fs.Inode,
	fs.FileHandle, uint32, syscall.Errno) {
	name = n.spelled(name)
	fd, err := syscall.Open(filepath.Join(n.path(), name), int(flags)|syscall.O_CREAT, mode)
	if err != nil {
		return nil, nil, 0, fs.ToErrno(err)
	}
	inode, errno := n.child(ctx, name, out)
	return inode, fs.NewLoopbackFile(fd), 0, errno
}

func (n *node) Mkdir(ctx context.Context, name string, mode uint32, out *fuse.EntryOut) (*fs.Inode, syscall.Errno) {
	if err := syscall.Mkdir(filepath.Join(n.path(), n.spelled(name)), mode); err != nil {
		return nil, fs.ToErrno(err)
	}
	return n.child(ctx, name, out)
}

func (n *node) Unlink(_ context.Context, name string) syscall.Errno {
	return fs.ToErrno(syscall.Unlink(filepath.Join(n.path(), n.spelled(name))))
}

func (n *node) Rmdir(_ context.Context, name string) syscall.Errno {
	return fs.ToErrno(syscall.Rmdir(filepath.Join(n.path(), n.spelled(name))))
}

func (n *node) Rename(_ context.Context, name string, to fs.InodeEmbedder, toName string,
	flags uint32) syscall.Errno {
	folder, ok := to.EmbeddedInode().Operations().(*node)
	if !ok {
		return syscall.EXDEV
	}
	from := n.spelled(name)
	target := folder.spelled(toName)
	if target != toName && (folder != n || target != from) {
		toName = target // another file has that name
	}
	err := unix.Renameat2(unix.AT_FDCWD, filepath.Join(n.path(), from), unix.AT_FDCWD,
		filepath.Join(folder.path(), toName), uint(flags))
	if moved := n.GetChild(name); err == nil && moved != nil {
		if child, ok := moved.Operations().(*node); ok {
			child.up, child.name = folder, toName
		}
	}
	return fs.ToErrno(err)
}

func (n *node) Readdir(context.Context) (fs.DirStream, syscall.Errno) {
	return fs.NewLoopbackDirStream(n.path())
}
