package flow

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/core/notation"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/underway"
)

// A file that nobody takes is told once it was left alone, in whatever order
// others change; as it is, it is told once.
func TestUnmatchedFiles(t *testing.T) {
	rules, diags := notation.Parse("/office/stilltide.yaml",
		[]byte("version: 1\nnotify: {on: unmatched, to: log}\nrules:\n  - {name: slips, watch: in, match: "+
			"slip-*, processed: in/done}\n"))
	require.Empty(t, diags)
	size := int64(1)
	now := time.Date(2031, 4, 2, 12, 0, 0, 0, time.UTC)
	changed := map[string]time.Time{}
	see := func(path string) (file.Facts, error) {
		return file.Facts{Exists: true, Regular: true, Size: size, Change: file.At(changed[path]),
			Writers: file.None}, nil
	}
	f := New(plan.NewSet(rules), told{by: map[string]job.Known{}}, looker{see: see}, nil, nil)
	after := func(d time.Duration) []string {
		now = now.Add(d)
		f.findUnmatched(now)
		defer f.Took()
		found := f.Effects().Unmatched
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

// told remembers what was told of.
type told struct {
	underway.Memory
	by map[string]job.Known
}

func (m told) Remember(k job.Known) { m.by[k.File] = k }

func (m told) Known(_, path string) (job.Known, bool, error) { k, ok := m.by[path]; return k, ok, nil }

// looker sees with a function.
type looker struct {
	underway.Eyes
	see func(path string) (file.Facts, error)
}

func (l looker) Look(path string) (file.Facts, error) { return l.see(path) }
