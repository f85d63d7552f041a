//go:build !linux

package watchfs

import (
	"errors"
	"os"
	"path/filepath"
	"strings"

	"github.com/fsnotify/fsnotify"
)

// source is the system's event source, by way of fsnotify.
type source struct {
	w *fsnotify.Watcher
	n map[string]bool
}

var errNoWatches = errors.New("the system has no watches left")

func newSource(Options) (*source, error) {
	w, err := fsnotify.NewWatcher()
	return &source{w: w, n: map[string]bool{}}, err
}

func (n *source) watch(path string, _ bool) error {
	err := n.w.Add(path)
	if err == nil {
		n.n[path] = true
	}
	return err
}

func (n *source) wait(path string) error { return n.watch(path, false) }

// guard is not possible: a watch here tells of everything in a folder.
func (n *source) guard(string) error { return errors.ErrUnsupported }

func (n *source) drop(path string) {
	if n.n[path] {
		delete(n.n, path)
		_ = n.w.Remove(path) // fails if the folder is gone: then the watch is, too
	}
}

func (n *source) dropBelow(path string) {
	prefix := strings.TrimSuffix(path, string(filepath.Separator)) + string(filepath.Separator)
	for p := range n.n {
		if p == path || strings.HasPrefix(p, prefix) {
			n.drop(p)
		}
	}
}

func (n *source) has(path string) bool { return n.n[path] }

func (n *source) watched() []string {
	paths := make([]string, 0, len(n.n))
	for p := range n.n {
		paths = append(paths, p)
	}
	return paths
}

// said is what one read gave.
type said struct {
	fsnotify.Event
	lost bool
}

func (n *source) read() (said, error) {
	select {
	case e, ok := <-n.w.Events:
		if !ok {
			return said{}, os.ErrClosed
		}
		return said{Event: e}, nil
	case err, ok := <-n.w.Errors:
		if !ok {
			return said{}, os.ErrClosed
		}
		if errors.Is(err, fsnotify.ErrEventOverflow) {
			return said{lost: true}, nil
		}
		return said{}, err
	}
}

// full reports whether there is no watch for a path any more. That is not known before one is asked for.
func (n *source) full(string) bool { return false }

// watchFar is of another system: here no file system is known that may not answer.
func (n *source) watchFar(string, bool) (keep func(), err error) { return func() {}, nil }

func (n *source) close() error { return n.w.Close() }

func (n *source) changes(s said) []change {
	if s.lost {
		return []change{{what: lostEvents}}
	}
	info, err := os.Lstat(s.Name)
	c := change{folder: filepath.Dir(s.Name), path: s.Name, dir: err == nil && info.IsDir()}
	switch {
	case s.Has(fsnotify.Remove), s.Has(fsnotify.Rename):
		if c.what = nameRemoved; n.n[s.Name] {
			return []change{{what: folderGone, folder: s.Name, path: s.Name}}
		}
	case s.Has(fsnotify.Create):
		c.what = nameCreated
	case s.Has(fsnotify.Write):
		c.what = writerClosed // the writer is unknown here, so the file must hold still anyway
	default:
		return nil
	}
	return []change{c}
}
