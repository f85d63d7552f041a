// Package stick is a stand-in, for tests, for the plain file systems of sticks and cameras, and of
// storage on the web: it shows a folder over FUSE, without what they lack.
package stick

import (
	"time"

	"github.com/hanwen/go-fuse/v2/fs"
	"github.com/hanwen/go-fuse/v2/fuse"
)

// Lacks says what a file system lacks.
type Lacks struct {
	Flags bool          // renaming that does not replace, or swaps
	Links bool          // hard and symbolic links
	Modes bool          // permissions and owners: all have the same, and to change them is refused
	Times bool          // setting a file's time is refused
	Tags  bool          // extended attributes
	Exact time.Duration // times are those before, in such steps; 0 for exact ones
}

// Mount shows a folder at another one, without what it lacks, until the returned function is
// called. It needs the right to mount.
func Mount(folder, at string, lacks Lacks) (unmount func() error, err error) {
	root, err := fs.NewLoopbackRoot(folder)
	if err != nil {
		return nil, err
	}
	server, err := fuse.NewServer(&stick{fs.NewNodeFS(root, &fs.Options{}), lacks}, at,
		&fuse.MountOptions{DirectMountStrict: true, FsName: "stick", Name: "stick", DisableReadDirPlus: true})
	if err != nil {
		return nil, err
	}
	go server.Serve() // ends when it is unmounted
	return func() error { return Unmount(server, at) }, server.WaitMount()
}

type stick struct {
	fuse.RawFileSystem
	lacks Lacks
}

// show makes what is told of a file as plain as the file system holds it.
func (s *stick) show(a *fuse.Attr) {
	if s.lacks.Modes {
		a.Mode = a.Mode&^0o777 | 0o755
	}
	if s.lacks.Exact > 0 {
		at := time.Unix(int64(a.Mtime), int64(a.Mtimensec)).Truncate(s.lacks.Exact)
		a.Mtime, a.Mtimensec = uint64(at.Unix()), uint32(at.Nanosecond())
	}
}

func (s *stick) Lookup(cancel <-chan struct{}, h *fuse.InHeader, name string, out *fuse.EntryOut) fuse.Status {
	status := s.RawFileSystem.Lookup(cancel, h, name, out)
	s.show(&out.Attr)
	return status
}

func (s *stick) GetAttr(cancel <-chan struct{}, in *fuse.GetAttrIn, out *fuse.AttrOut) fuse.Status {
	status := s.RawFileSystem.GetAttr(cancel, in, out)
	s.show(&out.Attr)
	return status
}

func (s *stick) SetAttr(cancel <-chan struct{}, in *fuse.SetAttrIn, out *fuse.AttrOut) fuse.Status {
	if s.lacks.Modes && in.Valid&(fuse.FATTR_MODE|fuse.FATTR_UID|fuse.FATTR_GID) != 0 {
		return fuse.EPERM
	}
	if s.lacks.Times && in.Valid&fuse.FATTR_MTIME != 0 {
		return fuse.EPERM
	}
	status := s.RawFileSystem.SetAttr(cancel, in, out)
	s.show(&out.Attr)
	return status
}

func (s *stick) Create(cancel <-chan struct{}, in *fuse.CreateIn, name string, out *fuse.CreateOut) fuse.Status {
	status := s.RawFileSystem.Create(cancel, in, name, out)
	s.show(&out.Attr)
	return status
}

func (s *stick) Rename(cancel <-chan struct{}, in *fuse.RenameIn, from, to string) fuse.Status {
	if s.lacks.Flags && in.Flags != 0 {
		return fuse.ENOSYS
	}
	return s.RawFileSystem.Rename(cancel, in, from, to)
}

func (s *stick) Link(cancel <-chan struct{}, in *fuse.LinkIn, name string, out *fuse.EntryOut) fuse.Status {
	if s.lacks.Links {
		return fuse.EPERM
	}
	return s.RawFileSystem.Link(cancel, in, name, out)
}

func (s *stick) Symlink(cancel <-chan struct{}, h *fuse.InHeader, to, name string, out *fuse.EntryOut) fuse.Status {
	if s.lacks.Links {
		return fuse.EPERM
	}
	return s.RawFileSystem.Symlink(cancel, h, to, name, out)
}

func (s *stick) SetXAttr(cancel <-chan struct{}, in *fuse.SetXAttrIn, name string, value []byte) fuse.Status {
	if s.lacks.Tags {
		return fuse.ENOSYS
	}
	return s.RawFileSystem.SetXAttr(cancel, in, name, value)
}

func (s *stick) GetXAttr(cancel <-chan struct{}, h *fuse.InHeader, name string, into []byte) (uint32, fuse.Status) {
	if s.lacks.Tags {
		return 0, fuse.ENOSYS
	}
	return s.RawFileSystem.GetXAttr(cancel, h, name, into)
}

func (s *stick) ListXAttr(cancel <-chan struct{}, h *fuse.InHeader, into []byte) (uint32, fuse.Status) {
	if s.lacks.Tags {
		return 0, fuse.ENOSYS
	}
	return s.RawFileSystem.ListXAttr(cancel, h, into)
}
