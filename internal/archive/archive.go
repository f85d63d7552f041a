// Package archive reads zip, tar and gzip archives, and refuses what one must not hold: entries
// that would leave its folder, links and devices, names that stand twice, and more than its limits
// allow.
package archive

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"strings"
	"time"

	"stilltide/internal/core/plan"
)

// Limits bound what an archive may hold.
type Limits struct {
	Files int     // entries
	Size  int64   // bytes, unpacked
	Ratio float64 // unpacked to packed, beyond the first freeRatio bytes
}

// freeRatio is what may be unpacked whatever the ratio: small files of zeros
// are harmless.
const freeRatio = 10 << 20

// Entry is one file or folder of an archive.
type Entry struct {
	Name string // below the archive's top; from a Reader it is clean, with forward slashes
	Mode fs.FileMode
	Mod  time.Time
	Dir  bool
	open func() (io.ReadCloser, error)
}

// Reader reads one archive. Use New.
type Reader struct {
	walk   func(func(Entry) error) error
	limits Limits
	ended  func() error
	packed int64
	size   int64           // bytes unpacked so far
	seen   map[string]bool // names, folders too
}

// New begins to read an archive of so many bytes. ended is asked all along: an error of it ends the
// reading.
func New(in *os.File, size int64, limits Limits, ended func() error) (*Reader, error) {
	walk, err := kindOf(in, size)
	if err != nil {
		return nil, err
	}
	return &Reader{walk: walk, limits: limits, ended: ended, packed: size, seen: map[string]bool{}}, nil
}

// Walk calls each for the entries, in their order. The content of one can be read until each
// returns.
func (r *Reader) Walk(each func(e Entry) error) error {
	files := 0
	err := r.walk(func(e Entry) error {
		if err := r.ended(); err != nil {
			return err
		}
		name, err := r.note(e)
		if err != nil || name == "" {
			return err
		}
		if !e.Dir {
			files++
		}
		e.Name = name
		return each(e)
	})
	if err == nil && files == 0 {
		err = errors.New("it holds no files")
	}
	return err
}

// Open gives the content of an entry, which ends with an error where the limits are.
func (r *Reader) Open(e Entry) (io.ReadCloser, error) {
	in, err := e.open()
	if err != nil {
		return nil, err
	}
	return &bounded{in, r}, nil
}

// maxForetold bounds the content of an entry that Entries reads, in bytes.
const maxForetold = 16 << 20

// Entries returns the files that an archive holds, for foretelling what unpacking it would
// do; it is refused where unpacking would be. whole is false if an entry is so large that
// only its beginning was read.
func Entries(path string, limits Limits, each func(name string, content []byte, whole bool)) error {
	in, err := os.Open(path)
	if err != nil {
		return err
	}
	defer in.Close()
	info, err := in.Stat()
	if err != nil {
		return err
	}
	r, err := New(in, info.Size(), limits, func() error { return nil })
	if err != nil {
		return err
	}
	return r.Walk(func(e Entry) error {
		if e.Dir {
			return nil
		}
		from, err := r.Open(e)
		if err != nil {
			return err
		}
		defer from.Close()
		content, err := io.ReadAll(io.LimitReader(from, maxForetold))
		each(e.Name, content, len(content) < maxForetold)
		return err
	})
}

// note checks an entry's name and counts it; it gives the clean name, "" for one that
// needs nothing.
func (r *Reader) note(e Entry) (string, error) {
	name, err := inside(e.Name)
	if err != nil || name == "." {
		return "", err
	}
	if r.seen[name] && e.Dir {
		return "", nil // folders may be named again
	}
	if r.seen[name] {
		return "", fmt.Errorf("two entries are named %q", name)
	}
	r.seen[name] = true
	for up := path.Dir(name); up != "."; up = path.Dir(up) {
		r.seen[up] = true
	}
	if len(r.seen) > r.limits.Files {
		return "", fmt.Errorf("it holds more than %d entries (limits: files)", r.limits.Files)
	}
	return name, nil
}

// bounded counts what is unpacked and ends at the limits.
type bounded struct {
	io.ReadCloser
	r *Reader
}

func (b *bounded) Read(buf []byte) (int, error) {
	n, err := b.ReadCloser.Read(buf)
	r := b.r
	if err == nil {
		err = r.ended()
	}
	r.size += int64(n)
	switch {
	case r.size > r.limits.Size:
		return n, fmt.Errorf("it holds more than %d bytes (limits: size)", r.limits.Size)
	case r.size > freeRatio && float64(r.size) > r.limits.Ratio*float64(max(r.packed, 1)):
		return n, fmt.Errorf("it grows to more than %g times its size (limits: ratio)", r.limits.Ratio)
	}
	return n, err
}

// A path of an archive is bounded, so that what is unpacked can be looked through and
// removed again.
const (
	deepestName = 64
	longestName = 4095 - 512 // bytes; PATH_MAX, less the way to the folder
)

// inside cleans an entry's name, which must stay below the archive's top.
func inside(name string) (string, error) {
	refused := func(why string) (string, error) { return "", fmt.Errorf("the entry %q %s", name, why) }
	switch {
	case name == "" || strings.IndexByte(name, 0) >= 0:
		return refused("has no usable name")
	case strings.HasPrefix(name, "/") || len(name) > 1 && name[1] == ':':
		return refused("has an absolute path")
	case strings.Contains(name, `\`):
		return refused("has a backslash in its name, which is a path on some systems")
	}
	if len(name) > longestName || strings.Count(name, "/") >= deepestName {
		return "", fmt.Errorf("the entry %q… lies too deep: a path may have %d parts and %d bytes",
			name[:min(len(name), 40)], deepestName, longestName)
	}
	for _, part := range strings.Split(name, "/") {
		if part == ".." {
			return refused("climbs out of its folder")
		}
		if strings.HasPrefix(part, plan.HiddenPrefix) {
			return refused("has a name that is reserved for the program")
		}
	}
	return path.Clean(name), nil
}
