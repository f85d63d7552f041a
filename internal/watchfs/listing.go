package watchfs

import (
	"io"
	"io/fs"
	"os"
	"slices"
	"strings"
)

// Entry is a file or a folder in a folder: its name, that of a folder with a slash at its end. So
// entries have the order of the paths of all that lies in them.
type Entry string

// Name is the name.
func (e Entry) Name() string { return strings.TrimSuffix(string(e), "/") }

// Dir reports whether it is a folder.
func (e Entry) Dir() bool { return strings.HasSuffix(string(e), "/") }

// EachEntry returns the files and folders of a folder in the order in which a sweep takes them:
// by name. A folder of more than maxListed is taken in parts, each by name.
func EachEntry(folder string, f func(Entry)) error {
	d, err := os.Open(folder)
	if err != nil {
		return err
	}
	defer d.Close()
	return eachListing(d, func(read func()) { read() }, func(entries []Entry) bool {
		for _, e := range entries {
			f(e)
		}
		return true
	})
}

// eachListing reads a folder without its links, devices and pipes; ask is what each read is
// done by.
func eachListing(d *os.File, ask func(read func()), f func([]Entry) bool) error {
	for {
		var entries []Entry
		var err error
		for err == nil && len(entries) < maxListed {
			var read []fs.DirEntry
			ask(func() { read, err = d.ReadDir(batchSize) })
			entries = appendPlain(entries, read)
		}
		slices.Sort(entries)
		if !f(entries) || err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
	}
}

// appendPlain appends what is a file or a folder.
func appendPlain(entries []Entry, read []fs.DirEntry) []Entry {
	for _, e := range read {
		switch {
		case e.IsDir():
			entries = append(entries, Entry(e.Name()+"/"))
		case e.Type()&fs.ModeType == 0:
			entries = append(entries, Entry(e.Name()))
		}
	}
	return entries
}

// maxListed is how many entries of a folder are put in order together: some 12 MB of names.
const maxListed = 1 << 18
