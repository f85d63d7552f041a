package watchfs

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"golang.org/x/sys/unix"
)

const (
	watchMask = unix.IN_CREATE | unix.IN_CLOSE_WRITE | unix.IN_MOVED_TO | unix.IN_MOVED_FROM | unix.IN_DELETE |
		unix.IN_DELETE_SELF | unix.IN_MOVE_SELF | unix.IN_ONLYDIR | unix.IN_EXCL_UNLINK
	waitMask  = unix.IN_CREATE | unix.IN_MOVED_TO | unix.IN_DELETE_SELF | unix.IN_MOVE_SELF | unix.IN_ONLYDIR
	guardMask = unix.IN_MOVE_SELF | unix.IN_ONLYDIR
)

// source is the system's event source (inotify(7)). One watch may stand for
// several paths, because the system counts watches by folder, not by path.
type source struct {
	file  *os.File
	paths map[int32][]string // by watch descriptor
	wds   map[string]int32
	most  int
	buf   []byte
	made  []change // what changes gave last
}

var errNoWatches = errors.New("the system has no watches left (fs.inotify.max_user_watches)")

func newSource(o Options) (*source, error) {
	fd, err := unix.InotifyInit1(unix.IN_CLOEXEC | unix.IN_NONBLOCK)
	if err != nil {
		return nil, fmt.Errorf("the system provides no event queue (fs.inotify.max_user_instances): %w", err)
	}
	return &source{file: os.NewFile(uintptr(fd), "inotify"), paths: map[int32][]string{}, wds: map[string]int32{},
		most: o.MaxWatches, buf: make([]byte, 128<<10)}, nil
}

// watch begins to watch a folder; wait watches it only for new names, guard
// only for its own.
func (n *source) watch(path string, writing bool) error { return n.add(path, maskOf(writing)) }

func maskOf(writing bool) uint32 {
	if writing {
		return watchMask | unix.IN_MODIFY
	}
	return watchMask
}

func (n *source) wait(path string) error  { return n.add(path, waitMask) }
func (n *source) guard(path string) error { return n.add(path, guardMask) }

func (n *source) add(path string, mask uint32) error {
	if n.full(path) {
		return errNoWatches
	}
	wd, err := n.ask(path, mask)
	if err == nil {
		n.keep(wd, path)
	}
	return err
}

// full reports whether there is no watch for a path any more.
func (n *source) full(path string) bool {
	_, have := n.wds[path]
	return !have && n.most > 0 && len(n.paths) >= n.most
}

// watchFar begins to watch a folder whose file system may not answer: the lock is not held. keep is called when it is.
func (n *source) watchFar(path string, writing bool) (keep func(), err error) {
	wd, err := n.ask(path, maskOf(writing))
	return func() { n.keep(wd, path) }, err
}

// ask asks the system for a watch. It looks the path up.
func (n *source) ask(path string, mask uint32) (int32, error) {
	wd := -1
	err := n.control(func(fd int) (err error) {
		wd, err = unix.InotifyAddWatch(fd, path, mask|unix.IN_MASK_ADD)
		return err
	})
	switch {
	case errors.Is(err, unix.ENOSPC), errors.Is(err, unix.ENOMEM):
		return -1, errNoWatches
	case err != nil:
		return -1, &os.PathError{Op: "watch", Path: path, Err: err}
	}
	return int32(wd), nil
}

func (n *source) keep(wd int32, path string) {
	if old, ok := n.wds[path]; ok && old != wd {
		n.drop(path)
	}
	n.wds[path] = wd
	if !slices.Contains(n.paths[wd], path) {
		n.paths[wd] = append(n.paths[wd], path)
	}
}

// drop stops watching a path.
func (n *source) drop(path string) {
	wd, ok := n.wds[path]
	if !ok {
		return
	}
	delete(n.wds, path)
	if rest := slices.DeleteFunc(n.paths[wd], func(p string) bool { return p == path }); len(rest) > 0 {
		n.paths[wd] = rest
		return
	}
	delete(n.paths, wd)
	// Fails if the folder is gone: then the system has dropped the watch itself.
	_ = n.control(func(fd int) error {
		_, err := unix.InotifyRmWatch(fd, uint32(wd))
		return err
	})
}

// dropBelow stops watching a folder and all below it.
func (n *source) dropBelow(path string) {
	prefix := strings.TrimSuffix(path, "/") + "/"
	for p := range n.wds {
		if p == path || strings.HasPrefix(p, prefix) {
			n.drop(p)
		}
	}
}

func (n *source) has(path string) bool {
	_, ok := n.wds[path]
	return ok
}

// watched lists the watched paths.
func (n *source) watched() []string { return slices.Collect(maps.Keys(n.wds)) }

func (n *source) control(f func(fd int) error) error {
	raw, err := n.file.SyscallConn()
	if err != nil {
		return err
	}
	var inner error
	if err := raw.Control(func(fd uintptr) { inner = f(int(fd)) }); err != nil {
		return err
	}
	return inner
}

// read waits for events and gives the buffer that holds them.
func (n *source) read() (said, error) {
	size, err := n.file.Read(n.buf)
	return n.buf[:max(size, 0)], err
}

func (n *source) close() error { return n.file.Close() }

// said is what one read gave: events as the system lays them out.
type said []byte

// maxChanges bounds the room that is kept for the next changes.
const maxChanges = 8192

// changes turns events into changes, one for each path that a watch stands
// for. They are good until the next ones. The watcher's lock is held.
func (n *source) changes(events said) []change {
	if clear(n.made); cap(n.made) > maxChanges {
		n.made = nil
	}
	out := n.made[:0]
	defer func() { n.made = out }()
	for len(events) >= unix.SizeofInotifyEvent {
		wd := int32(binary.NativeEndian.Uint32(events))
		mask := binary.NativeEndian.Uint32(events[4:])
		end := unix.SizeofInotifyEvent + int(binary.NativeEndian.Uint32(events[12:]))
		name, _, _ := bytes.Cut(events[unix.SizeofInotifyEvent:end], []byte{0})
		events = events[end:]
		out = n.append(out, wd, mask, name)
	}
	return out
}

func (n *source) append(out []change, wd int32, mask uint32, name []byte) []change {
	if mask&unix.IN_Q_OVERFLOW != 0 {
		return append(out, change{what: lostEvents})
	}
	paths := n.paths[wd]
	if mask&unix.IN_IGNORED != 0 {
		delete(n.paths, wd)
		for _, p := range paths {
			delete(n.wds, p)
		}
	}
	for _, p := range paths {
		c := change{folder: p, path: p, dir: mask&unix.IN_ISDIR != 0, what: meaning(mask)}
		if c.what == writerClosed && closes(out, p, name) {
			continue
		}
		if len(name) > 0 {
			c.path = strings.TrimSuffix(p, "/") + "/" + string(name)
		}
		out = append(out, c)
	}
	return out
}

// closes makes one of the change by which a file was made a moment ago and the
// one by which its writer closed it: for most files the two follow each other.
func closes(out []change, folder string, name []byte) bool {
	for i := len(out) - 1; i >= max(0, len(out)-nearby); i-- {
		if out[i].folder == folder && filepath.Base(out[i].path) == string(name) {
			if out[i].what != nameCreated {
				return false
			}
			out[i].what = writerClosed
			return true
		}
	}
	return false
}

// nearby is how far back the making of a file is looked for.
const nearby = 8

func meaning(mask uint32) what {
	switch {
	case mask&(unix.IN_DELETE_SELF|unix.IN_MOVE_SELF|unix.IN_UNMOUNT|unix.IN_IGNORED) != 0:
		return folderGone
	case mask&unix.IN_CREATE != 0:
		return nameCreated
	case mask&unix.IN_CLOSE_WRITE != 0:
		return writerClosed
	case mask&unix.IN_MOVED_TO != 0:
		return nameMoved
	case mask&unix.IN_MODIFY != 0:
		return fileWritten
	default: // IN_DELETE, IN_MOVED_FROM
		return nameRemoved
	}
}
