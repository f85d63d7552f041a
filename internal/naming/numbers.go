// Package naming finds the name that a file gets in a folder where the one that it is to have is
// taken: the next free number, or none if its content has the name already.
package naming

import (
	"bytes"
	"errors"
	"hash/maphash"
	"io"
	"iter"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"

	"stilltide/internal/core/plan"
)

// Numbered returns the n-th choice of a name: stem.ext, stem-2.ext, stem-3.ext, …
// A failure note keeps its whole ending, by which it is known. What would be too long is cut before its extension.
func Numbered(name string, n int) string {
	if n == 1 {
		return name
	}
	number := "-" + strconv.Itoa(n)
	if len(name)+len(number) > plan.MaxName {
		name = Fitting(name, 0)
	}
	stem, ext := splitEnding(name)
	return stem + number + ext
}

func splitEnding(name string) (stem, ext string) {
	if note, ok := strings.CutSuffix(name, plan.NoteEnding); ok {
		return note, plan.NoteEnding
	}
	if i := strings.LastIndexByte(name, '.'); i > 0 {
		return name[:i], name[i:]
	}
	return name, ""
}

// IsNumbered reports whether a name is another one, or that with a number.
func IsNumbered(name, wanted string) bool {
	base, _, ok := numberOf(name)
	return name == wanted || ok && base == wanted
}

// numberOf is the opposite of Numbered: the name that was wanted, and the number from 2 on.
func numberOf(name string) (wanted string, n int, ok bool) {
	stem, ext := splitEnding(name)
	i := strings.LastIndexByte(stem, '-')
	if i < 0 {
		return "", 0, false
	}
	n, err := strconv.Atoi(stem[i+1:])
	if err != nil || n < 2 {
		return "", 0, false
	}
	wanted = stem[:i] + ext
	return wanted, n, Numbered(wanted, n) == name
}

// Numbers remembers which numbers of a name are taken, so that the thousandth file that
// wants one name need not be compared with the 999 before it. Whoever asks looks at each
// name that it offers, so what has changed meanwhile costs a number at most: one that
// somebody else gave free is used again when the program starts anew. The zero value is
// ready; a nil one remembers nothing. It may be used by several goroutines.
type Numbers struct {
	mu    sync.Mutex
	names map[string]*series // by the path that is wanted
	noted int
}

// maxNoted bounds the numbers that are remembered, at about 40 bytes each.
const maxNoted = 200_000

// series is what is known of one name.
type series struct {
	next   int              // from here on nothing is known; 0 stands for 2
	free   []int            // numbers before it that were given free, in order
	alike  map[mark][]int   // numbers by the beginning of their content
	unread map[int64][]int  // numbers by size, where the content has not been read yet
	marks  map[int]struct{} // numbers whose content was read
}

// mark is what two files with the same content have in common.
type mark struct {
	size int64
	head uint64
}

var markSeed = maphash.MakeSeed()

// Tries returns the numbers that are worth looking at for a content that is to get a name,
// in order and endlessly: 1, those that may have the same content or be the source, and
// those that may be free. taken tells whether a number is taken now.
func (m *Numbers) Tries(path string, of *Payload, taken func(n int) bool) iter.Seq[int] {
	if m == nil {
		m = &Numbers{}
	}
	return func(yield func(int) bool) {
		if !yield(1) {
			return
		}
		likely := m.likely(path, of, taken)
		for last := 1; ; {
			n := m.open(path, last)
			for len(likely) > 0 && likely[0] <= last {
				likely = likely[1:]
			}
			if len(likely) > 0 {
				n = min(n, likely[0])
			}
			if !yield(n) {
				return
			}
			last = n
		}
	}
}

// likely lists the taken numbers that may have the content already. What is known of a
// name is forgotten if its last number is not taken any more.
func (m *Numbers) likely(path string, of *Payload, taken func(n int) bool) []int {
	m.mu.Lock()
	s := m.names[path]
	if s == nil {
		m.mu.Unlock()
		return nil
	}
	last := s.next - 1
	m.mu.Unlock()
	if !taken(last) {
		m.mu.Lock()
		delete(m.names, path)
		m.mu.Unlock()
		return nil
	}
	is, read := of.mark()
	m.mu.Lock()
	defer m.mu.Unlock()
	var found []int
	if wanted, n, ok := numberOf(filepath.Base(of.Path)); ok && n < s.next && strings.EqualFold(wanted,
		filepath.Base(path)) {
		found = append(found, n)
	}
	if read {
		found = append(found, s.alike[is]...)
	}
	found = append(found, s.unread[of.Size]...)
	slices.Sort(found)
	return slices.Compact(found)
}

// open returns the next number that may be free.
func (m *Numbers) open(path string, after int) int {
	m.mu.Lock()
	defer m.mu.Unlock()
	s := m.names[path]
	if s == nil {
		return after + 1
	}
	for _, n := range s.free {
		if n > after {
			return n
		}
	}
	return max(s.next, after+1)
}

// Note remembers that a number is taken by other content. That is read if it may be asked
// for again soon: if it has the size of what was to get the name.
func (m *Numbers) Note(path string, n int, there, wanted *Payload) {
	if m == nil || n < 2 || len(filepath.Base(path)) > plan.MaxName-longestNumber {
		return // what is cut does not tell what it was cut from
	}
	var is mark
	read := false
	if there.Size == wanted.Size {
		is, read = there.mark()
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	s := m.series(path)
	switch i, free := slices.BinarySearch(s.free, n); {
	case n == s.next:
		s.next++
		m.noted++
	case free:
		s.free = slices.Delete(s.free, i, i+1)
	case n > s.next:
		return // names before it are left to others
	}
	if _, known := s.marks[n]; known || there.Size < 0 {
		return
	}
	waits := slices.Index(s.unread[there.Size], n)
	switch {
	case read:
		s.marks[n] = struct{}{}
		m.noted++
		s.alike[is] = append(s.alike[is], n)
		if waits >= 0 {
			s.unread[there.Size] = slices.Delete(s.unread[there.Size], waits, waits+1)
		}
	case waits < 0:
		s.unread[there.Size] = append(s.unread[there.Size], n)
	}
}

func (m *Numbers) series(path string) *series {
	if m.noted >= maxNoted {
		m.names, m.noted = nil, 0
	}
	if m.names == nil {
		m.names = map[string]*series{}
	}
	s := m.names[path]
	if s == nil {
		s = &series{next: 2, alike: map[mark][]int{}, unread: map[int64][]int{}, marks: map[int]struct{}{}}
		m.names[path] = s
	}
	return s
}

// Free notes that a path is not taken any more.
func (m *Numbers) Free(path string) {
	if m == nil {
		return
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	if len(m.names) == 0 {
		return
	}
	dir, name := filepath.Split(path)
	wanted, n, ok := numberOf(name)
	if !ok {
		return
	}
	s := m.names[dir+wanted]
	if s == nil || n >= s.next {
		return
	}
	if i, there := slices.BinarySearch(s.free, n); !there {
		s.free = slices.Insert(s.free, i, n)
		delete(s.marks, n)
	}
}

// Payload is content that is to get a name: that of a file, or a text.
type Payload struct {
	Path string // the file; "" for a text
	Size int64  // in bytes; -1 for what is like no other, as a folder
	Text []byte

	Open  func() (*os.File, error) // nil to open Path
	Ended func() error             // an error when comparing is to end; nil for never
	head  []byte
	read  bool
}

func (c *Payload) reader() (*os.File, error) {
	if c.Open != nil {
		return c.Open()
	}
	return os.Open(c.Path)
}

// headSize is how much of a content is read to find out that it differs from another.
const headSize = 64 << 10

// beginning returns the first bytes of the content.
func (c *Payload) beginning() ([]byte, error) {
	if c.read {
		return c.head, nil
	}
	if c.Path == "" {
		c.head, c.read = c.Text[:min(len(c.Text), headSize)], true
		return c.head, nil
	}
	f, err := c.reader()
	if err != nil {
		return nil, err
	}
	defer f.Close()
	head := make([]byte, min(c.Size, headSize))
	n, err := io.ReadFull(f, head)
	if err != nil && err != io.EOF && err != io.ErrUnexpectedEOF {
		return nil, err
	}
	c.head, c.read = head[:n], true
	return c.head, nil
}

func (c *Payload) mark() (m mark, read bool) {
	if c.Size < 0 {
		return mark{}, false
	}
	head, err := c.beginning()
	if err != nil {
		return mark{}, false
	}
	return mark{c.Size, maphash.Bytes(markSeed, head)}, true
}

// Same reports whether a regular file of the same size has the same content.
func (c *Payload) Same(there *Payload) (bool, error) {
	if c.Size < 0 || c.Size != there.Size {
		return false, nil
	}
	own, err := c.beginning()
	if err != nil {
		return false, err
	}
	other, err := there.beginning()
	switch {
	case err != nil || !bytes.Equal(own, other):
		return false, err
	case c.Path != "" && there.Path != "":
		return c.sameThroughout(there)
	}
	own, err = c.all()
	other, errThere := there.all()
	return bytes.Equal(own, other), errors.Join(err, errThere)
}

func (c *Payload) all() ([]byte, error) {
	if c.Path == "" {
		return c.Text, nil
	}
	f, err := c.reader()
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return io.ReadAll(f)
}

// sameThroughout compares two files byte by byte.
func (c *Payload) sameThroughout(there *Payload) (bool, error) {
	a, err := c.reader()
	if err != nil {
		return false, err
	}
	defer a.Close()
	b, err := there.reader()
	if err != nil {
		return false, err
	}
	defer b.Close()
	ended := c.Ended
	if ended == nil {
		ended = func() error { return nil }
	}
	return sameBytes(a, b, min(c.Size+1, 256<<10), ended)
}

// sameBytes compares what two readers give.
func sameBytes(a, b io.Reader, room int64, ended func() error) (bool, error) {
	bufA, bufB := make([]byte, room), make([]byte, room)
	for {
		if err := ended(); err != nil {
			return false, err
		}
		n, errA := io.ReadFull(a, bufA)
		m, errB := io.ReadFull(b, bufB)
		if n != m || !bytes.Equal(bufA[:n], bufB[:m]) {
			return false, nil
		}
		if errA != nil || errB != nil {
			end := func(err error) bool { return err == nil || err == io.EOF || err == io.ErrUnexpectedEOF }
			if !end(errA) {
				return false, errA
			}
			if !end(errB) {
				return false, errB
			}
			return true, nil
		}
	}
}
