package rule

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/goccy/go-yaml/ast"

	"stilltide/internal/core/fill"
	"stilltide/internal/core/gather"
)

// Choice is one word of a few.
type Choice string

// OneOf is implemented by texts that are one of a few words, the first of which is taken
// where another stands.
type OneOf interface{ Words() []string }

// choose reads one of the words.
func choose(d *decoder, n ast.Node, what string, words ...string) string {
	s, ok := d.scalar(n)
	if ok {
		for _, w := range words {
			if s == w {
				return s
			}
		}
	}
	hint := "it is one of " + strings.Join(words, ", ")
	if near := Nearest(s, words); near != "" {
		hint = "did you mean " + near + "?"
	}
	if other := otherValues[what][s]; other != "" {
		hint = other
	}
	d.errorAt(n, "choice", fmt.Sprintf("%s cannot be %q", what, s), hint)
	return words[0]
}

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

func readDepth(d *decoder, n ast.Node, v *Depth) {
	s, _ := d.scalar(n)
	if s == "all" {
		*v = AllLevels
		return
	}
	levels, err := strconv.Atoi(s)
	if err != nil || levels < 0 || levels > AllLevels {
		d.errorAt(n, "depth", fmt.Sprintf("depth cannot be %q", s),
			"write 0 for only that folder, a number of levels, or all")
		return
	}
	*v = Depth(levels)
}

// Unit says what one job works on.
type Unit Choice

const (
	UnitFile   Unit = "file"
	UnitFolder Unit = "folder"
)

func readUnit(d *decoder, n ast.Node, v *Unit) {
	*v = Unit(choose(d, n, "unit", "file", "folder"))
}

// Event is one of the events a rule reacts to.
type Event Choice

func readEvent(d *decoder, n ast.Node, v *Event) {
	*v = Event(choose(d, n, "an event", "added", "changed", "removed", "renamed"))
}

// Running says what happens when a file changes while its job runs.
type Running Choice

const (
	RunFinishFirst Running = "finish_first"
	RunStopOld     Running = "stop_old"
	RunOwnWork     Running = "own_work"
)

func readRunning(d *decoder, n ast.Node, v *Running) {
	*v = Running(choose(d, n, "while_running", "finish_first", "stop_old", "own_work"))
}

// WritersMode says whether a writer is waited for.
type WritersMode Choice

const (
	WritersWait   WritersMode = "wait"
	WritersIgnore WritersMode = "ignore"
)

func readWritersMode(d *decoder, n ast.Node, v *WritersMode) {
	*v = WritersMode(choose(d, n, "writers", "wait", "ignore"))
}

// Poll is how often folders without events are looked at; 0 for auto.
type Poll time.Duration

func readPoll(d *decoder, n ast.Node, v *Poll) {
	if s, _ := d.scalar(n); s == "auto" {
		*v = 0
		return
	}
	var t Duration
	readDuration(d, n, &t)
	if t.Pos.Line > 0 && t.Duration < 100*time.Millisecond {
		d.errorAt(n, "range", "poll must be at least 100ms", "write auto, or a longer time")
	}
	*v = Poll(t.Duration)
}

// Size is a number of bytes: `100MB`, `2KiB`, `17`.
type Size int64

func readSize(d *decoder, n ast.Node, v *Size) {
	s, _ := d.scalar(n)
	bytes, err := humanize.ParseBytes(s)
	if err != nil {
		d.errorAt(n, "size", fmt.Sprintf("%q is not a size", s),
			"write a number with its unit: B, KB, MB, GB, KiB, MiB, GiB")
		return
	}
	*v = Size(bytes)
}

// Ready says when a file is ready.
type Ready struct {
	Writers WritersMode `key:"writers" doc:"wait: no program may have it open for writing; ignore: take it anyway"`
	Marker  Text        `key:"marker" doc:"name of the companion file that says done, such as {name}.ok"`
	MinSize Size        `key:"min_size" doc:"a smaller file is not ready"`
	MaxWait Duration    `key:"max_wait" doc:"bound on the wait, counted from the last growth"`
	Overdue Overdue     `key:"overdue" doc:"what happens after max_wait: wait, fail or take; it is reported in any case"`

	MarkerName *fill.Template
	markerRE   *regexp.Regexp
}

func readReady(d *decoder, n ast.Node, v *Ready) {
	type plain Ready
	d.into(n, reflectOf((*plain)(v)), "ready")
}

// Overdue says what happens to a file that does not become ready in time.
type Overdue Choice

func readOverdue(d *decoder, n ast.Node, v *Overdue) {
	*v = Overdue(choose(d, n, "overdue", "wait", "fail", "take"))
}

// markerWords are the placeholders of a marker's name.
var markerWords = []string{"name", "stem", "ext"}

// marker compiles the marker's name and the expression that knows markers.
func (d *decoder) marker(r *Rule) {
	v := &r.Ready
	if !v.Marker.Set() {
		return
	}
	v.MarkerName = d.template(v.Marker, markerWords)
	if v.MarkerName == nil {
		return
	}
	if !v.MarkerName.Uses("name", "stem") {
		d.add(SeverityError, v.Marker.Pos, "marker",
			"the marker's name must hold {name} or {stem}, so that it belongs to one file",
			"write {name}.ok, for instance")
	}
	if strings.Contains(v.Marker.S, "/") {
		d.errorIn(v.Marker, "/", "marker", "a marker lies beside its file, so its name holds no /", "")
	}
	var expr strings.Builder
	rest := v.Marker.S
	for _, ref := range v.MarkerName.Refs() {
		before, after, _ := strings.Cut(rest, ref.Raw)
		expr.WriteString(regexp.QuoteMeta(before) + ".+")
		rest = after
	}
	v.markerRE = regexp.MustCompile(`(?s)\A` + expr.String() + regexp.QuoteMeta(rest) + `\z`)
}

// IsMarker reports whether a name is that of a marker of this rule.
func (v *Ready) IsMarker(name string) bool {
	return v.markerRE != nil && v.markerRE.MatchString(name)
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

func readGroupOverdue(d *decoder, n ast.Node, v *GroupOverdue) {
	*v = GroupOverdue(choose(d, n, "overdue", "fail", "take"))
}

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
