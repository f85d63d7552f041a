package rule

import (
	"regexp"
	"strconv"
	"time"

	"stilltide/internal/core/fill"
	"stilltide/internal/core/gather"
)

// Choice is one word of a few.
type Choice string

// OneOf is implemented by texts that are one of a few words, the first of which is taken
// where another stands.
type OneOf interface{ Words() []string }

// AllLevels is the depth that `all` stands for.
const AllLevels = 1 << 20

// Depth is a number of levels, or all.
type Depth int

// String is the depth as it is written: a number of levels, or all.
func (v Depth) String() string {
	if v == AllLevels {
		return "all"
	}
	return strconv.Itoa(int(v))
}

// Unit says what one job works on.
type Unit Choice

const (
	UnitFile   Unit = "file"
	UnitFolder Unit = "folder"
)

// Event is one of the events a rule reacts to.
type Event Choice

// Running says what happens when a file changes while its job runs.
type Running Choice

const (
	RunFinishFirst Running = "finish_first"
	RunStopOld     Running = "stop_old"
	RunOwnWork     Running = "own_work"
)

// WritersMode says whether a writer is waited for.
type WritersMode Choice

const (
	WritersWait   WritersMode = "wait"
	WritersIgnore WritersMode = "ignore"
)

// Poll is how often folders without events are looked at; 0 for auto.
type Poll time.Duration

// Size is a number of bytes: `100MB`, `2KiB`, `17`.
type Size int64

// Ready says when a file is ready.
type Ready struct {
	Writers WritersMode `key:"writers" doc:"wait: no program may have it open for writing; ignore: take it anyway"`
	Marker  Text        `key:"marker" doc:"name of the companion file that says done, such as {name}.ok"`
	MinSize Size        `key:"min_size" doc:"a smaller file is not ready"`
	MaxWait Duration    `key:"max_wait" doc:"bound on the wait, counted from the last growth"`
	Overdue Overdue     `key:"overdue" doc:"what happens after max_wait: wait, fail or take; it is reported in any case"`

	MarkerName *fill.Template
	MarkerRE   *regexp.Regexp
}

// Overdue says what happens to a file that does not become ready in time.
type Overdue Choice

// IsMarker reports whether a name is that of a marker of this rule.
func (v *Ready) IsMarker(name string) bool {
	return v.MarkerRE != nil && v.MarkerRE.MatchString(name)
}

// Batch makes one job of all files that come together.
type Batch struct {
	Quiet    Duration `key:"quiet" doc:"it ends when no further file has settled for so long"`
	MaxFiles int      `key:"max_files" doc:"it ends at so many files"`
	MaxWait  Duration `key:"max_wait" doc:"it ends after so long; 1m if left out"`

	Pos Pos
}

func (v *Batch) SetPos(p Pos) { v.Pos = p }

// Group makes one job of files that belong together.
type Group struct {
	By      Text         `key:"by" doc:"a template; files with the same value belong together"`
	Need    []Text       `key:"need" doc:"patterns that must each be met by a file"`
	MaxWait Duration     `key:"max_wait" doc:"it is overdue after so long; never if left out"`
	Overdue GroupOverdue `key:"overdue" doc:"what happens then to what is there: fail or take; fail if left out"`

	Pos Pos
}

func (v *Group) SetPos(p Pos) { v.Pos = p }

// GroupOverdue says what happens to a group that is not complete in time.
type GroupOverdue Choice

const (
	GroupFails GroupOverdue = "fail"
	GroupTaken GroupOverdue = "take"
)

// Gather is what makes one job of many files: a batch or a group.
type Gather struct {
	Quiet    Duration
	MaxFiles int
	MaxWait  Duration
	By       Text
	Need     []Text
	Overdue  GroupOverdue

	Pos   Pos
	Key   *fill.Template
	Needs []gather.Need
}

// IsGroup reports whether it gathers groups rather than batches.
func (v *Gather) IsGroup() bool { return v.By.Set() }

// Spec is what the gathering machine must know.
func (v *Gather) Spec() gather.Spec {
	return gather.Spec{Quiet: v.Quiet.Duration, MaxFiles: v.MaxFiles, MaxWait: v.MaxWait.Duration, Need: v.Needs}
}
