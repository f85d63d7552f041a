package engine

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"stilltide/internal/core/file"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
)

// A file that nobody takes is told once it was left alone, in whatever order
// others change; as it is, it is told once.
func TestUnmatchedFiles(t *testing.T) {
	rules, diags := rule.Parse("/office/stilltide.yaml",
		[]byte("version: 1\nnotify: {on: unmatched, to: log}\nrules:\n  - {name: slips, watch: in, match: "+
			"slip-*, processed: in/done}\n"))
	require.Empty(t, diags)
	size := int64(1)
	now := time.Date(2031, 4, 2, 12, 0, 0, 0, time.UTC)
	changed := map[string]time.Time{}
	f := newFlow(plan.NewSet(rules), newStore(t), func(path string) (file.Facts, error) {
		return file.Facts{Exists: true, Regular: true, Size: size, Change: file.At(changed[path]),
			Writers: file.None}, nil
	})
	after := func(d time.Duration) []string {
		now = now.Add(d)
		f.findUnmatched(now)
		found := f.unmatched.found
		f.unmatched.found = nil
		return found
	}
	f.unclaimed("/office/in/busy", now)
	f.unclaimed("/office/in/odd", now)
	f.unclaimed("/office/in/half.part", now)
	f.unclaimed("/office/in/done/old", now)
	now = now.Add(5 * time.Second)
	changed["/office/in/busy"] = now // it is written on
	f.unclaimed("/office/in/busy", now)
	f.unclaimed("/office/in/odd", now) // its folder is looked through again
	require.Empty(t, after(4*time.Second))
	require.Equal(t, []string{"/office/in/odd"}, after(time.Second), "one that is busy holds up no other")
	require.Empty(t, after(9*time.Second))
	require.Equal(t, []string{"/office/in/busy"}, after(time.Second))
	_, more := f.unmatched.next()
	require.False(t, more)
	f.unclaimed("/office/in/odd", now)
	require.Empty(t, after(time.Minute), "told once")
	size = 2
	f.unclaimed("/office/in/odd", now)
	require.Equal(t, []string{"/office/in/odd"}, after(time.Minute), "it is another one now")
}
