package notation

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"stilltide/internal/core/diag"
	"stilltide/internal/core/rule"
	"stilltide/internal/core/schedule"
)

func readRate(d *decoder, n ast.Node, v *rule.Rate) {
	s, _ := d.scalar(n)
	count, per, ok := strings.Cut(s, " in ")
	number, err := strconv.Atoi(strings.TrimSpace(count))
	span, spanErr := rule.ParseDuration(strings.TrimSpace(per))
	if !ok || err != nil || spanErr != nil || number < 1 || span <= 0 {
		d.errorAt(n, "rate", fmt.Sprintf("%q is not a rate", s), "write a number and a time, such as 30 in 1m")
		return
	}
	*v = rule.Rate{Count: number, Per: span}
}

func readAgain(d *decoder, n ast.Node, v *rule.Again) {
	*v = rule.Again(choose(d, n, "again", "changed", "never", "always"))
}

func readLoops(d *decoder, n ast.Node, v *rule.Loops) {
	*v = rule.Loops(choose(d, n, "loops", "stop", "allow"))
}

func readSchedule(d *decoder, n ast.Node, v *rule.Schedule) {
	readText(d, n, &v.Text)
	if !v.Set() {
		return
	}
	line, err := schedule.Parse(v.S, d.on.Zones)
	if err != nil {
		d.errorAt(n, "schedule", fmt.Sprintf("this is no schedule: %v", err),
			"write minute, hour, day, month, day of the week: 0 20 * * fri is Fridays at eight in the evening")
		return
	}
	v.Line = line
}

func readOrder(d *decoder, n ast.Node, v *rule.Order) {
	*v = rule.Order(choose(d, n, "order", "arrival", "name", "oldest", "newest", "smallest"))
}

// flow checks the keys that say when a job runs.
func (d *decoder) flow(f *rule.File, r *rule.Rule) {
	if r.Queue.Set() {
		if _, ok := f.Queues[r.Queue.S]; !ok {
			names := make([]string, 0, len(f.Queues))
			for name := range f.Queues {
				names = append(names, name)
			}
			slices.Sort(names)
			hint := "the queues are " + strings.Join(names, ", ")
			if near := diag.Nearest(r.Queue.S, names); near != "" {
				hint = "did you mean " + near + "?"
			} else if len(names) == 0 {
				hint = "there is no queues: in this file"
			}
			d.add(diag.SeverityError, r.Queue.Pos, "unknown-queue", fmt.Sprintf("there is no queue named %s",
				r.Queue.S),
				hint)
		}
	}
	if s := r.SerialBy; s.S == "true" || s.S == "false" {
		d.add(diag.SeverityError, s.Pos, "serial_by", "serial_by is a template and cannot be "+s.S,
			"jobs whose value is the same run one after the other: write serial_by: all for one at a time, "+
				"{folder} for one a folder, and leave it out for no such bound")
	} else if s.Set() {
		r.Key = d.template(r.SerialBy, memberWords(r))
	}
	d.againOn(r)
	if r.Again == rule.AgainNever && (r.Folded() || r.Gather != nil) {
		d.add(diag.SeverityError, r.Pos, "again",
			"again: never compares the content of single files, so it does not go with unit: folder, batch or "+
				"group", "leave it out")
	}
}
