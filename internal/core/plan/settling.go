package plan

import (
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"stilltide/internal/core/file"
	"stilltide/internal/core/gather"
	"stilltide/internal/core/rule"
	"stilltide/internal/core/settle"
)

// Policy is how a rule wants its files settled.
func Policy(r *rule.Rule) settle.Policy {
	return settle.Policy{
		Rule: r.Name.S, Debounce: r.Debounce.Duration, Ignore: r.Ready.Writers == rule.WritersIgnore,
		Marker:  r.Ready.Marker.Set(),
		MinSize: int64(r.Ready.MinSize), MaxWait: r.Ready.MaxWait.Duration,
		Overdue: settle.Overdue(r.Ready.Overdue),
	}
}

// SameWait reports whether two rules want their files settled in the same way.
func SameWait(a, b *rule.Rule) bool {
	if a == nil || b == nil || a.Ready.Marker.Set() || b.Ready.Marker.Set() {
		return false
	}
	pa, pb := Policy(a), Policy(b)
	pa.Rule, pb.Rule = "", ""
	return pa == pb
}

// MarkerOf returns the path of the companion that says a file is done, "" if
// the rule asks for none.
func MarkerOf(r *rule.Rule, path string) string {
	if r.Ready.MarkerName == nil {
		return ""
	}
	j := Job{Rule: r, File: path}
	name, err := r.Ready.MarkerName.FillPath(j.Lookup)
	if err != nil {
		return ""
	}
	return filepath.Join(filepath.Dir(path), name)
}

// Set is the batch or group of its rule that a file belongs to.
func (c Candidate) Set(f file.Facts, event file.Event, now time.Time) (gather.Key, error) {
	key := gather.Key{Rule: c.Rule.Name.S, Watch: c.Watch}
	if !c.Rule.Gather.IsGroup() {
		return key, nil
	}
	by, err := c.Rule.Gather.Key.Fill(c.job(f, event, now).Lookup)
	key.By = by
	return key, err
}

// NotReady is the reason of a job whose file did not become ready in time.
func NotReady(why string) string { return "it did not become ready: " + why }

// Incomplete is the reason of a job whose group did not become complete in time.
func Incomplete(g gather.Group) string {
	return fmt.Sprintf("the group %q is not complete: nothing fits %s", g.Key.By, strings.Join(g.Missing, ", "))
}

// Awaits says what a batch or group waits for; missing is what its members lack.
func Awaits(missing []string) string {
	if len(missing) == 0 {
		return "more files may come"
	}
	return "nothing fits " + strings.Join(missing, ", ") + " yet"
}
