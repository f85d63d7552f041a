// Package history summarizes past jobs: counts and times over a span, by rule,
// by reason of failure, and the slowest files.
//
// A Summary takes one job after another, in any order, and keeps only what the
// figures need.
package history

import (
	"cmp"
	"maps"
	"slices"
	"strings"
	"time"
	"unicode"
)

// Job is what is known of a job that is over.
type Job struct {
	ID      int64
	Rule    string
	File    string
	Outcome string // processed, failed, skipped, gone, cancelled
	Reason  string
	Taken   time.Time
	Started time.Time // zero if no attempt began
	Ended   time.Time
	Ran     time.Duration // all attempts together
	Size    int64         // bytes
}

// Outcomes in the order in which they are shown.
var Outcomes = []string{"processed", "failed", "skipped", "vanished", "cancelled", "reverted"}

// maxBuckets bounds how finely time is divided.
const maxBuckets = 72

// maxSlow is how many of the slowest jobs are kept.
const maxSlow = 10

// steps are the widths that a bucket may have.
var steps = []time.Duration{
	time.Second, 5 * time.Second, 15 * time.Second, time.Minute, 5 * time.Minute, 15 * time.Minute, time.Hour,
	3 * time.Hour, 6 * time.Hour,
	24 * time.Hour, 7 * 24 * time.Hour, 28 * 24 * time.Hour,
}

// Summary sums jobs up. Use New.
type Summary struct {
	From, To time.Time
	Step     time.Duration // width of a bucket
	Buckets  []Bucket
	Total    Figures
	Slowest  []Job // longest running first

	rules   map[string]*Figures
	reasons map[string]*Reason
}

// Bucket is a part of the time.
type Bucket struct {
	Start time.Time
	Figures
}

// Figures are counts and times.
type Figures struct {
	Count  map[string]int // by outcome
	waited []float32      // seconds
	ran    []float32
}

// Jobs is how many jobs there are.
func (f *Figures) Jobs() int {
	n := 0
	for _, c := range f.Count {
		n += c
	}
	return n
}

// Spread is the middle and the upper end of times, in seconds.
type Spread struct{ Median, P95 float64 }

// Waited reports how long jobs waited from being taken to their first attempt.
func (f *Figures) Waited() Spread { return spread(f.waited) }

// Ran reports how long jobs ran.
func (f *Figures) Ran() Spread { return spread(f.ran) }

func spread(times []float32) Spread {
	slices.Sort(times)
	return Spread{Median: rank(times, 0.5), P95: rank(times, 0.95)}
}

// rank returns the value that a share of sorted values does not exceed (nearest rank).
func rank(sorted []float32, share float64) float64 {
	if len(sorted) == 0 {
		return 0
	}
	at := int(share*float64(len(sorted))+0.999999) - 1
	return float64(sorted[min(max(at, 0), len(sorted)-1)])
}

func (f *Figures) add(j Job) {
	if f.Count == nil {
		f.Count = map[string]int{}
	}
	f.Count[j.Outcome]++
	if !j.Started.IsZero() {
		f.waited = append(f.waited, float32(j.Started.Sub(j.Taken).Seconds()))
		f.ran = append(f.ran, float32(j.Ran.Seconds()))
	}
}

// Reason is a group of failures that failed alike.
type Reason struct {
	Text  string // as the last of them said it
	Count int
	Last  Job
	Rules []string
}

// New begins a summary of the time from one moment to another. Buckets begin
// at whole steps of the place's clock.
func New(from, to time.Time) *Summary {
	s := &Summary{From: from, To: to, Step: steps[len(steps)-1], rules: map[string]*Figures{},
		reasons: map[string]*Reason{}}
	for _, step := range steps {
		if to.Sub(from)/step < maxBuckets {
			s.Step = step
			break
		}
	}
	for at := Floor(from, s.Step); at.Before(to); at = Next(at, s.Step) {
		s.Buckets = append(s.Buckets, Bucket{Start: at})
	}
	if len(s.Buckets) == 0 {
		s.Buckets = []Bucket{{Start: Floor(from, s.Step)}}
	}
	return s
}

const day = 24 * time.Hour

// Floor returns the beginning of the step; days begin at midnight of the place.
func Floor(t time.Time, step time.Duration) time.Time {
	y, m, d := t.Date()
	midnight := time.Date(y, m, d, 0, 0, 0, 0, t.Location())
	if step >= day {
		return midnight
	}
	return midnight.Add(t.Sub(midnight) / step * step)
}

// Next returns the step after t, also over a day of 23 or 25 hours.
func Next(t time.Time, step time.Duration) time.Time {
	if step >= day {
		return t.AddDate(0, 0, int(step/day))
	}
	return t.Add(step)
}

// Add takes one job; one that ended outside the time is left out.
func (s *Summary) Add(j Job) {
	if j.Ended.Before(s.From) || j.Ended.After(s.To) {
		return
	}
	at, found := slices.BinarySearchFunc(s.Buckets, j.Ended,
		func(b Bucket, t time.Time) int { return b.Start.Compare(t) })
	if !found {
		at--
	}
	s.Buckets[max(at, 0)].add(j)
	s.Total.add(j)
	f := s.rules[j.Rule]
	if f == nil {
		f = &Figures{}
		s.rules[j.Rule] = f
	}
	f.add(j)
	if j.Outcome == "failed" {
		s.addReason(j)
	}
	s.addSlow(j)
}

func (s *Summary) addSlow(j Job) {
	if j.Started.IsZero() || len(s.Slowest) == maxSlow && j.Ran <= s.Slowest[maxSlow-1].Ran {
		return
	}
	at, _ := slices.BinarySearchFunc(s.Slowest, j, func(a, b Job) int { return cmp.Compare(b.Ran, a.Ran) })
	s.Slowest = slices.Insert(s.Slowest, at, j)
	s.Slowest = s.Slowest[:min(len(s.Slowest), maxSlow)]
}

func (s *Summary) addReason(j Job) {
	key := Alike(j.File, j.Reason)
	r := s.reasons[key]
	if r == nil {
		r = &Reason{}
		s.reasons[key] = r
	}
	r.Count++
	if !slices.Contains(r.Rules, j.Rule) {
		r.Rules = append(r.Rules, j.Rule)
	}
	if !j.Ended.Before(r.Last.Ended) {
		r.Text, r.Last = j.Reason, j
	}
}

// Alike returns what reasons of the same kind have in common: the text without
// the file's own name, and with every number the same.
func Alike(file, reason string) string {
	text := strings.ReplaceAll(reason, file, "FILE")
	if at := strings.LastIndexAny(file, `/\`); at >= 0 && at+1 < len(file) {
		text = strings.ReplaceAll(text, file[at+1:], "FILE")
	}
	var b strings.Builder
	number := false
	for _, r := range text {
		if unicode.IsDigit(r) || number && (r == '.' || r == ',') {
			if !number {
				b.WriteByte('0')
			}
			number = true
			continue
		}
		number = false
		b.WriteRune(r)
	}
	return b.String()
}

// Rules lists the rules by name, those with the most jobs first.
func (s *Summary) Rules() []string {
	return slices.SortedFunc(maps.Keys(s.rules), func(a, b string) int {
		return cmp.Or(cmp.Compare(s.rules[b].Jobs(), s.rules[a].Jobs()), cmp.Compare(a, b))
	})
}

// Rule returns the figures of one rule.
func (s *Summary) Rule(name string) *Figures { return s.rules[name] }

// Reasons lists the groups of failures, the largest first.
func (s *Summary) Reasons() []Reason {
	var list []Reason
	for _, r := range s.reasons {
		slices.Sort(r.Rules)
		list = append(list, *r)
	}
	slices.SortFunc(list, func(a, b Reason) int {
		return cmp.Or(cmp.Compare(b.Count, a.Count),
			cmp.Compare(a.Text, b.Text))
	})
	return list
}
