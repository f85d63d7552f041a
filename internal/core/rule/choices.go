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
	"stilltide/internal/core/settle"
)

// Choice is one word of a few.
type Choice string

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
	d.errorAt(n, "choice", fmt.Sprintf("%s cannot be %q", what, s), hint)
	return words[0]
}

// AllLevels is the depth that `all` stands for.
const AllLevels = 1 << 20

// Depth is a number of levels, or all.
type Depth int

func (v *Depth) fromNode(d *decoder, n ast.Node) {
	s, _ := d.scalar(n)
	if s == "all" {
		*v = AllLevels
		return
	}
	levels, err := strconv.Atoi(s)
	if err != nil || levels < 0 || levels > AllLevels {
		d.errorAt(n, "depth", fmt.Sprintf("depth cannot be %q", s), "write 0 for only that folder, a number of levels, or all")
		return
	}
	*v = Depth(levels)
}

// Take says what the units of a rule are.
type Take Choice

const (
	TakeFiles   Take = "files"
	TakeFolders Take = "folders"
)

func (v *Take) fromNode(d *decoder, n ast.Node) {
	*v = Take(choose(d, n, "take", "files", "folders"))
}

// Event is one of the events a rule reacts to.
type Event Choice

func (v *Event) fromNode(d *decoder, n ast.Node) {
	*v = Event(choose(d, n, "an event", "added", "changed", "removed"))
}

// Running says what happens when a file changes while its job runs.
type Running Choice

const (
	RunAfter   Running = "after"
	RunStopOld Running = "stop_old"
	RunIgnore  Running = "ignore"
)

func (v *Running) fromNode(d *decoder, n ast.Node) {
	*v = Running(choose(d, n, "while_running", "after", "stop_old", "ignore"))
}

// WritersMode says whether a writer is waited for.
type WritersMode Choice

const (
	WritersWait   WritersMode = "wait"
	WritersIgnore WritersMode = "ignore"
)

func (v *WritersMode) fromNode(d *decoder, n ast.Node) {
	*v = WritersMode(choose(d, n, "writers", "wait", "ignore"))
}

// Look is how often folders without events are looked at; 0 for auto.
type Look time.Duration

func (v *Look) fromNode(d *decoder, n ast.Node) {
	if s, _ := d.scalar(n); s == "auto" {
		*v = 0
		return
	}
	var t Duration
	t.fromNode(d, n)
	if t.Pos.Line > 0 && t.Duration < 100*time.Millisecond {
		d.errorAt(n, "range", "look must be at least 100ms", "write auto, or a longer time")
	}
	*v = Look(t.Duration)
}

// Size is a number of bytes: `100MB`, `2KiB`, `17`.
type Size int64

func (v *Size) fromNode(d *decoder, n ast.Node) {
	s, _ := d.scalar(n)
	bytes, err := humanize.ParseBytes(s)
	if err != nil {
		d.errorAt(n, "size", fmt.Sprintf("%q is not a size", s), "write a number with its unit: B, KB, MB, GB, KiB, MiB, GiB")
		return
	}
	*v = Size(bytes)
}

// Ready says when a file is ready.
type Ready struct {
	Writers WritersMode `key:"writers" doc:"wait: nobody may have it open for writing; ignore: take it all the same"`
	Marker  Text        `key:"marker" doc:"name of the companion file that says done, such as {name}.ok"`
	MinSize Size        `key:"min_size" doc:"a smaller file is not ready"`
	AtMost  Duration    `key:"at_most" doc:"bound on the wait, counted from the last growth"`
	Then    Choice      `key:"then" doc:"what happens after at_most: wait, failed or go; it is reported in any case"`

	MarkerName *fill.Template
	markerRE   *regexp.Regexp
}

func (v *Ready) fromNode(d *decoder, n ast.Node) {
	type plain Ready
	d.into(n, reflectOf((*plain)(v)), "ready")
	v.then(d, n)
}

func (v *Ready) then(d *decoder, n ast.Node) {
	switch settle.Then(v.Then) {
	case settle.ThenWait, settle.ThenFailed, settle.ThenGo:
	default:
		hint := "it is one of wait, failed, go"
		d.errorAt(n, "choice", fmt.Sprintf("then cannot be %q", v.Then), hint)
	}
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
		d.add(SeverityError, v.Marker.Pos, "marker", "the marker's name must hold {name} or {stem}, so that it belongs to one file", "write {name}.ok, for instance")
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

// IsMarker tells whether a name is that of a marker of this rule.
func (v *Ready) IsMarker(name string) bool {
	return v.markerRE != nil && v.markerRE.MatchString(name)
}

// Gather makes one job of many files.
type Gather struct {
	Quiet  Duration `key:"quiet" doc:"burst: it ends when no further file has settled for so long"`
	Most   int      `key:"most" doc:"burst: it ends at so many files"`
	By     Text     `key:"by" doc:"set: files with the same value belong together"`
	Need   []Text   `key:"need" doc:"set: patterns that must each be met by a member"`
	AtMost Duration `key:"at_most" doc:"burst: it ends after so long (1m if left out); set: it is late after so long"`
	Then   Choice   `key:"then" doc:"set that is late: failed or go"`

	Pos   Pos
	Key   *fill.Template
	Needs []gather.Need
}

func (v *Gather) setPos(p Pos) { v.Pos = p }

// Set tells whether it gathers sets rather than bursts.
func (v *Gather) Set() bool { return v.By.Set() }

// Spec is what the gathering machine must know.
func (v *Gather) Spec() gather.Spec {
	return gather.Spec{Quiet: v.Quiet.Duration, Most: v.Most, AtMost: v.AtMost.Duration, Need: v.Needs}
}
