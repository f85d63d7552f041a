package notation

import (
	"fmt"
	"math"
	"regexp"
	"strconv"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/goccy/go-yaml/ast"

	"stilltide/internal/core/diag"
	"stilltide/internal/core/rule"
)

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
	if near := diag.Nearest(s, words); near != "" {
		hint = "did you mean " + near + "?"
	}
	if other := diag.OtherValues[what][s]; other != "" {
		hint = other
	}
	d.errorAt(n, "choice", fmt.Sprintf("%s cannot be %q", what, s), hint)
	return words[0]
}

func readDepth(d *decoder, n ast.Node, v *rule.Depth) {
	s, _ := d.scalar(n)
	if s == "all" {
		*v = rule.AllLevels
		return
	}
	levels, err := strconv.Atoi(s)
	if err != nil || levels < 0 || levels > rule.AllLevels {
		d.errorAt(n, "depth", fmt.Sprintf("depth cannot be %q", s),
			"write 0 for only that folder, a number of levels, or all")
		return
	}
	*v = rule.Depth(levels)
}

func readUnit(d *decoder, n ast.Node, v *rule.Unit) {
	*v = rule.Unit(choose(d, n, "unit", "file", "folder"))
}

func readEvent(d *decoder, n ast.Node, v *rule.Event) {
	*v = rule.Event(choose(d, n, "an event", "added", "changed", "removed", "renamed"))
}

func readRunning(d *decoder, n ast.Node, v *rule.Running) {
	*v = rule.Running(choose(d, n, "while_running", "finish_first", "stop_old", "own_work"))
}

func readWritersMode(d *decoder, n ast.Node, v *rule.WritersMode) {
	*v = rule.WritersMode(choose(d, n, "writers", "wait", "ignore"))
}

func readPoll(d *decoder, n ast.Node, v *rule.Poll) {
	if s, _ := d.scalar(n); s == "auto" {
		*v = 0
		return
	}
	var t rule.Duration
	readDuration(d, n, &t)
	if t.Pos.Line > 0 && t.Duration < 100*time.Millisecond {
		d.errorAt(n, "range", "poll must be at least 100ms", "write auto, or a longer time")
	}
	*v = rule.Poll(t.Duration)
}

func readSize(d *decoder, n ast.Node, v *rule.Size) {
	s, _ := d.scalar(n)
	bytes, err := ParseSize(s)
	if err != nil {
		d.errorAt(n, "size", fmt.Sprintf("%q is not a size", s),
			"write a number with its unit: B, KB, MB, GB, KiB, MiB, GiB")
		return
	}
	*v = bytes
}

// ParseSize reads a number of bytes with its unit. No file is larger than an int64 says.
func ParseSize(s string) (rule.Size, error) {
	bytes, err := humanize.ParseBytes(s)
	if err == nil && bytes > math.MaxInt64 {
		err = strconv.ErrRange
	}
	return rule.Size(bytes), err
}

func readReady(d *decoder, n ast.Node, v *rule.Ready) {
	type plain rule.Ready
	d.into(n, reflectOf((*plain)(v)), "ready")
}

func readOverdue(d *decoder, n ast.Node, v *rule.Overdue) {
	*v = rule.Overdue(choose(d, n, "overdue", "wait", "fail", "take"))
}

// marker compiles the marker's name and the expression that knows markers.
func (d *decoder) marker(r *rule.Rule) {
	v := &r.Ready
	if !v.Marker.Set() {
		return
	}
	v.MarkerName = d.template(v.Marker, markerWords)
	if v.MarkerName == nil {
		return
	}
	if !v.MarkerName.Uses("name", "stem") {
		d.add(diag.SeverityError, v.Marker.Pos, "marker",
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
	v.MarkerRE = regexp.MustCompile(`(?s)\A` + expr.String() + regexp.QuoteMeta(rest) + `\z`)
}

func readGroupOverdue(d *decoder, n ast.Node, v *rule.GroupOverdue) {
	*v = rule.GroupOverdue(choose(d, n, "overdue", "fail", "take"))
}

// markerWords are the placeholders of a marker's name.
var markerWords = []string{"name", "stem", "ext"}
