package rule

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"

	"stilltide/internal/core/dispatch"
	"stilltide/internal/core/schedule"
)

// Queues are the named queues.
type Queues map[string]Queue

// Queue is a named queue's own bounds.
type Queue struct {
	Workers  int  `key:"workers" doc:"how many of its jobs run at once; no bound but the common one if left out"`
	Rate     Rate `key:"rate" doc:"how many may start in a time, such as 30 in 1m"`
	Priority int  `key:"priority" doc:"higher goes first; 0 if left out"`
}

// Bounds is what the dispatching machine must know.
func (q Queue) Bounds() dispatch.Queue {
	return dispatch.Queue{Workers: q.Workers, Count: q.Rate.Count, Per: q.Rate.Per, Priority: q.Priority}
}

// Rate is a number of starts in a time: `30 in 1m`.
type Rate struct {
	Count int
	Per   time.Duration
}

func readRate(d *decoder, n ast.Node, v *Rate) {
	s, _ := d.scalar(n)
	count, per, ok := strings.Cut(s, " in ")
	number, err := strconv.Atoi(strings.TrimSpace(count))
	span, spanErr := ParseDuration(strings.TrimSpace(per))
	if !ok || err != nil || spanErr != nil || number < 1 || span <= 0 {
		d.errorAt(n, "rate", fmt.Sprintf("%q is not a rate", s), "write a number and a time, such as 30 in 1m")
		return
	}
	*v = Rate{Count: number, Per: span}
}

// Again says whether a file that stays is handled again.
type Again Choice

const (
	AgainChanged Again = "changed" // when its content differs
	AgainNever   Again = "never"   // never the same content twice, under whatever name
	AgainAlways  Again = "always"  // at each change
)

func readAgain(d *decoder, n ast.Node, v *Again) {
	*v = Again(choose(d, n, "again", "changed", "never", "always"))
}

// Loops says whether a rule takes what it placed itself.
type Loops Choice

const (
	LoopsStop  Loops = "stop"
	LoopsAllow Loops = "allow"
)

func readLoops(d *decoder, n ast.Node, v *Loops) {
	*v = Loops(choose(d, n, "loops", "stop", "allow"))
}

// Schedule is when a rule's jobs may start: `0 20 * * fri`.
type Schedule struct {
	Text
	Line *schedule.Line
}

func readSchedule(d *decoder, n ast.Node, v *Schedule) {
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

// Order is the order in which a rule's jobs start.
type Order dispatch.Order

func readOrder(d *decoder, n ast.Node, v *Order) {
	*v = Order(choose(d, n, "order", "arrival", "name", "oldest", "newest", "smallest"))
}

// flow checks the keys that say when a job runs.
func (d *decoder) flow(f *File, r *Rule) {
	if r.Queue.Set() {
		if _, ok := f.Queues[r.Queue.S]; !ok {
			names := make([]string, 0, len(f.Queues))
			for name := range f.Queues {
				names = append(names, name)
			}
			slices.Sort(names)
			hint := "the queues are " + strings.Join(names, ", ")
			if near := Nearest(r.Queue.S, names); near != "" {
				hint = "did you mean " + near + "?"
			} else if len(names) == 0 {
				hint = "there is no queues: in this file"
			}
			d.add(SeverityError, r.Queue.Pos, "unknown-queue", fmt.Sprintf("there is no queue named %s", r.Queue.S),
				hint)
		}
	}
	if s := r.SerialBy; s.S == "true" || s.S == "false" {
		d.add(SeverityError, s.Pos, "serial_by", "serial_by is a template and cannot be "+s.S,
			"jobs whose value is the same run one after the other: write serial_by: all for one at a time, "+
				"{folder} for one a folder, and leave it out for no such bound")
	} else if s.Set() {
		r.Key = d.template(r.SerialBy, memberWords(r))
	}
	d.againOn(r)
	if r.Again == AgainNever && (r.Folded() || r.Gather != nil) {
		d.add(SeverityError, r.Pos, "again",
			"again: never compares the content of single files, so it does not go with unit: folder, batch or "+
				"group", "leave it out")
	}
}
