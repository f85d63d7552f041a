// Package watchfs reports what happens in folders.
//
// A Watcher is told which folders are wanted and how deep. It sends events: what
// the operating system reports as it happens, and what a sweep finds. Both use
// the same stream on purpose. A folder is first watched and then swept, so
// nothing can slip in between; and when the system loses events (its queue
// overflows, a folder goes and returns, a disk is mounted), the answer is always
// another sweep. An event only makes it sooner.
//
// Where the system has no events, because the file system is on another machine
// or no watches are left, folders are polled instead; the stream stays the same.
package watchfs

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"stilltide/internal/core/file"
)

// Kind is what an event says.
type Kind int

const (
	Created   Kind = iota // a new name; its writer may still be at work
	Closed                // a writer closed the file
	Written               // a writer wrote to the file, which is still open; only where TellWriting wants it
	Moved                 // renamed to this name
	Removed               // deleted, or renamed away
	Found                 // seen by a sweep or a look
	Absent                // a wanted folder is not there; waiting for it
	Present               // a wanted folder is there (again) and watched
	Swept                 // the sweep of a wanted folder has ended; with Err it has not seen all
	Polled                // a folder is polled: Err says why
	Trouble               // a folder cannot be watched: Err says why
	Recovered             // a folder's trouble or polling is over
)

// Event is one thing that happened.
type Event struct {
	Kind Kind
	Path string
	Dir  bool // the path is a folder
	Err  error
}

// errOther says that another file has a path meanwhile.
var errOther = errors.New("it is a different file now")

// Deepest is a depth that covers all subfolders.
const Deepest = 1 << 20

// Options bound a Watcher.
type Options struct {
	// Look is how often folders without events are looked at; 0 for 5 s.
	Look time.Duration
	// Once sweeps without watching.
	Once bool
	// Missing, if set, says why a folder counts as absent though something is
	// at its path: the disk that belongs there is not mounted.
	Missing func(folder string) error
	// Sift, if set, begins the sweep of a wanted folder: it returns what need not be told,
	// nil for a sweep that tells all.
	Sift func(root string) Sieve
	// Apart has what walks and looks find be sent on a stream of its own, so that what happens
	// does not wait behind it. Batches of one keep their order; between the two there is none.
	Apart bool
	// MaxWatches bounds the system watches that are used; 0 for no bound but the system's.
	MaxWatches int
}

// batchSize is the number of found files that are sent together.
const batchSize = 512

// Facts returns what a file information holds. Writers is left unknown.
func Facts(info fs.FileInfo) file.Facts {
	f := file.Facts{
		Exists:  true,
		Dir:     info.IsDir(),
		Regular: info.Mode().IsRegular(),
		Size:    info.Size(),
		Mod:     file.At(info.ModTime()),
		Change:  file.At(info.ModTime()),
		Mode:    uint32(info.Mode().Perm()),
	}
	system(info, &f)
	return f
}

// Stat is Facts of a path; links are not followed. A path that is not there
// gives facts with Exists false and no error.
func Stat(path string) (file.Facts, error) {
	f, err := lstat(path)
	if err != nil && gone(err) {
		return file.Facts{}, nil
	}
	return f, err
}

// nearestParent is the closest folder above path that exists.
func nearestParent(path string) string {
	for {
		up := filepath.Dir(path)
		if up == path {
			return path
		}
		if info, err := os.Stat(up); err == nil && info.IsDir() {
			return up
		}
		path = up
	}
}

// LookTree is Look for a whole folder: the size of all that lies inside, the
// newest times, and whether anybody writes to any file. Links inside are not
// followed.
func LookTree(top string) (file.Facts, error) {
	all, err := Stat(top)
	if err != nil || !all.Exists || !all.Dir {
		return all, err
	}
	all.Size, all.Writers = 0, file.None
	var content file.Time // of the files: folders change with what else is put into them and taken out again
	err = filepath.WalkDir(top, func(path string, _ fs.DirEntry, err error) error {
		if err != nil {
			if gone(err) {
				return nil // it went while we looked; the next look sees it
			}
			return err
		}
		one, err := Look(path)
		if err != nil || !one.Exists {
			return err
		}
		all.Change = max(all.Change, one.Change)
		if one.Regular {
			content = max(content, one.Mod)
			all.Size += one.Size
			all.Writers = worse(all.Writers, one.Writers)
		}
		return nil
	})
	if content != 0 {
		all.Mod = content
	}
	return all, err
}

// worse joins what is known of two files' writers: some beats unknown beats none.
func worse(a, b file.Writers) file.Writers {
	switch {
	case a == file.Some || b == file.Some:
		return file.Some
	case a == file.Unknown || b == file.Unknown:
		return file.Unknown
	}
	return file.None
}

// LookAny is Look for a file and LookTree for a folder.
func LookAny(path string) (file.Facts, error) {
	return lookWhole(path, func() (file.Facts, error) { return Look(path) })
}

// lookWhole completes a look with what lies in a folder, or beside an empty file.
func lookWhole(path string, look func() (file.Facts, error)) (file.Facts, error) {
	f, err := look()
	if err == nil && f.Regular && f.Size == 0 {
		f.Part = partBeside(path)
	}
	if err != nil || !f.Dir {
		return f, err
	}
	return LookTree(path)
}

// partBeside reports whether the part-file of a file lies beside it: the file itself is
// an empty one then, which only keeps the name free.
func partBeside(path string) bool {
	for _, ending := range file.PartEndings {
		if f, err := Stat(path + ending); err == nil && f.Exists {
			return true
		}
	}
	return false
}
