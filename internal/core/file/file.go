// Package file holds what is known about one file at one moment.
//
// The core decides from such facts and never looks at the disk itself. So a
// decision can be repeated, tested and explained.
package file

import (
	"math"
	"time"
)

// Writers reports whether somebody has a file open for writing.
type Writers int8

const (
	// Unknown: the system cannot tell (a network file system, another user's file).
	Unknown Writers = iota
	// None: the system granted a read lease, so nobody has it open for writing.
	None
	// Some: the system refused a read lease.
	Some
)

// String returns the word that `why` and the JSON lines use.
func (w Writers) String() string {
	return [...]string{"unknown", "none", "some"}[w]
}

// Time is a moment as file systems give it: nanoseconds since 1970, UTC. Moments
// before 1678 and after 2261 become the first and the last that fit.
type Time int64

// At returns the moment for a time, 0 for the zero time.
func At(t time.Time) Time {
	if t.IsZero() {
		return 0
	}
	return Unix(t.Unix(), int64(t.Nanosecond()))
}

// Unix returns the moment for seconds and nanoseconds since 1970 (stat(2)).
func Unix(sec, nsec int64) Time {
	const most = math.MaxInt64/int64(time.Second) - 1
	switch {
	case sec > most:
		return math.MaxInt64
	case sec < -most:
		return math.MinInt64
	}
	return Time(sec*int64(time.Second) + nsec)
}

// Time returns the moment as package time has it.
func (t Time) Time() time.Time { return time.Unix(0, int64(t)) }

// Facts are what one look at a path found. There are several for each file on
// its way, so they are small.
type Facts struct {
	Exists  bool
	Dir     bool
	Regular bool
	Part    bool // it is empty, and its part-file lies beside it
	Marker  bool // the companion that says "done" is there, where a rule asks for one
	Writers Writers
	Mode    uint32 // permission bits
	Size    int64  // bytes
	Mod     Time   // last change of the content
	Change  Time   // last change of content or attributes (ctime)
	Dev     uint64
	Ino     uint64
	Inside  *Inside // nil if nobody asked for it; it does not change
}

// PartEndings are added to a file's name for the part-file that a browser or a copier
// writes until the content is whole.
var PartEndings = []string{".part", ".partial", ".crdownload", ".download", ".filepart", ".incomplete"}

// Needs says what must be known of a file beyond its facts: looking into it costs, so it is
// done only where a rule asks for it.
type Needs struct {
	Kind, Tags, Shot, Made bool
}

// Inside is what a file's content and tags say, as far as a rule asks for it.
type Inside struct {
	Known Needs     // what was looked for; the rest is empty
	Kind  string    // media type
	Tags  []string  // user.xdg.tags
	Shot  time.Time // when a picture was taken, zero if it does not say
	Made  time.Time // when the file was made, zero where the file system does not know
}

// Lacks reports whether something that is needed was not looked for yet.
func (i Inside) Lacks(n Needs) bool {
	return n.Kind && !i.Known.Kind || n.Tags && !i.Known.Tags || n.Shot && !i.Known.Shot || n.Made && !i.Known.Made
}

// Says returns what is known of what a file's content and tags say.
func (f *Facts) Says() Inside {
	if f.Inside == nil {
		return Inside{}
	}
	return *f.Inside
}

// Same reports whether two looks saw the same, unchanged file: device, inode,
// size and modification time. Attribute changes do not count.
func (f Facts) Same(g Facts) bool {
	return f.Exists == g.Exists && f.Dev == g.Dev && f.Ino == g.Ino && f.Size == g.Size && f.Mod == g.Mod
}

// Event is the reason why a file is offered to the rules.
type Event string

const (
	Added   Event = "added"   // the ledger knows no file at that path for the rule
	Changed Event = "changed" // it does, and the file differs
	Removed Event = "removed" // a known file is no longer there
	Renamed Event = "renamed" // a known file has another path among those that are watched
)
