// Package file holds what is known of one file at one moment.
//
// Every decision of the core is made from such facts, never from the disk
// itself: somebody else looks, and the core decides. So a decision can be
// repeated, tested and explained.
package file

import "time"

// Writers says whether somebody has a file open for writing.
type Writers int8

const (
	// Unknown: the system cannot tell (a network file system, another user's file).
	Unknown Writers = iota
	// None: the system granted a read lease, so nobody has it open for writing.
	None
	// Some: the system refused a read lease.
	Some
)

// String gives the word that `why` and the JSON lines use.
func (w Writers) String() string {
	return [...]string{"unknown", "none", "some"}[w]
}

// Facts are what one look at a path found. There are several for each file on
// its way, so they are small.
type Facts struct {
	Exists  bool
	Dir     bool
	Regular bool
	Marker  bool // the companion that says "done" is there, where a rule asks for one
	Writers Writers
	Mode    uint32    // permission bits
	Size    int64     // bytes
	Mod     time.Time // last change of the content
	Change  time.Time // last change of content or attributes (ctime)
	Dev     uint64
	Ino     uint64
	Inside  *Inside // nil if nobody asked for it; it does not change
}

// Inside is what a file's content and labels say, as far as a rule asks for it.
type Inside struct {
	Kind string    // media type, "" if nobody asked for it
	Tags []string  // labels (user.xdg.tags), nil if nobody asked for them
	Shot time.Time // when a picture was taken, zero if it does not say
}

// Says gives what is known of what a file's content and labels say.
func (f *Facts) Says() Inside {
	if f.Inside == nil {
		return Inside{}
	}
	return *f.Inside
}

// Same tells whether two looks saw the same, unchanged file: device, inode,
// size and modification time. Attribute changes do not count.
func (f Facts) Same(g Facts) bool {
	return f.Exists == g.Exists && f.Dev == g.Dev && f.Ino == g.Ino && f.Size == g.Size && f.Mod.Equal(g.Mod)
}

// Event is the reason why a file is offered to the rules.
type Event string

const (
	Added   Event = "added"   // the ledger knows no file at that path for the rule
	Changed Event = "changed" // it does, and the file differs
	Removed Event = "removed" // a known file is no longer there
)
