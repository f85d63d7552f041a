package gather

import (
	"fmt"
	"sort"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"stilltide/internal/core/file"
)

var start = time.Date(2031, 4, 2, 0, 0, 0, 0, time.UTC)

func at(s float64) time.Time { return start.Add(time.Duration(s * float64(time.Second))) }

func names(g Group) string {
	var out []string
	for _, m := range g.Members {
		out = append(out, m.Path)
	}
	return strings.Join(out, " ")
}

func TestBurstEndsWhenQuiet(t *testing.T) {
	var m Machine
	k, s := Key{Rule: "r"}, Spec{Quiet: 5 * time.Second}
	m.Join(k, s, Member{Path: "a"}, at(0))
	m.Join(k, s, Member{Path: "b"}, at(3))
	require.Empty(t, m.Due(at(7)))
	next, ok := m.Next()
	require.True(t, ok)
	require.Equal(t, at(8), next)
	due := m.Due(at(8))
	require.Len(t, due, 1)
	require.Equal(t, "a b", names(due[0]))
	require.Zero(t, m.Len())
}

func TestBurstIsBounded(t *testing.T) {
	var m Machine
	for i := range 4 {
		m.Join(Key{Rule: "many"}, Spec{Quiet: time.Hour, MaxFiles: 3}, Member{Path: fmt.Sprint(i)}, at(float64(i)))
		if i == 2 {
			require.Equal(t, "0 1 2", names(m.Due(at(2))[0]), "at so many files")
		}
	}
	for i := range 100 { // a file a second never falls quiet
		m.Join(Key{Rule: "long"}, Spec{Quiet: 5 * time.Second}, Member{Path: fmt.Sprint("l", i)}, at(float64(i)))
		if len(m.Due(at(float64(i)))) > 0 {
			require.Equal(t, 60, i, "after a minute if nothing is said")
			return
		}
	}
	t.Fatal("the batch never ended")
}

func need(suffixes ...string) (needs []Need) {
	for _, s := range suffixes {
		needs = append(needs, Need{Text: "*" + s, Fits: func(p string) bool { return strings.HasSuffix(p, s) }})
	}
	return needs
}

func TestSets(t *testing.T) {
	var m Machine
	s := Spec{Need: need(".xyz", ".json"), MaxWait: time.Hour}
	seven, eight := Key{Rule: "r", By: "07"}, Key{Rule: "r", By: "08"}
	m.Join(seven, s, Member{Path: "07.xyz"}, at(0))
	m.Join(eight, s, Member{Path: "08.json"}, at(1))
	m.Join(seven, s, Member{Path: "07.txt"}, at(2)) // fits no need, goes along
	require.Empty(t, m.Due(at(2)))
	m.Join(seven, s, Member{Path: "07.json"}, at(3))
	due := m.Due(at(3))
	require.Len(t, due, 1)
	require.Equal(t, "07.xyz 07.txt 07.json", names(due[0]))
	require.Empty(t, due[0].Missing)
	due = m.Due(at(3601))
	require.Len(t, due, 1)
	require.Equal(t, []string{"*.xyz"}, due[0].Missing, "late")
}

func TestAMemberThatChangesLeaves(t *testing.T) {
	var m Machine
	s := Spec{Need: need(".a", ".b")}
	m.Join(Key{}, s, Member{Path: "x.a"}, at(0))
	require.True(t, m.Leave("x.a"))
	require.False(t, m.Leave("x.a"))
	m.Join(Key{}, s, Member{Path: "x.b"}, at(1))
	require.Empty(t, m.Due(at(99)), "x.a has not settled again")
	m.Join(Key{}, s, Member{Path: "x.a"}, at(100))
	require.Len(t, m.Due(at(100)), 1)
}

// model is the slow, obvious version: a list of joins, looked through each time.
type model struct {
	spec    Spec
	members []string
	first   time.Time
	last    time.Time
}

func (g *model) over(now time.Time) bool {
	if len(g.members) == 0 {
		return false
	}
	if len(g.spec.Need) > 0 {
		met := 0
		for _, n := range g.spec.Need {
			for _, p := range g.members {
				if n.Fits(p) {
					met++
					break
				}
			}
		}
		return met == len(g.spec.Need) || g.spec.MaxWait > 0 && now.Sub(g.first) >= g.spec.MaxWait
	}
	bound := g.spec.MaxWait
	if bound == 0 {
		bound = DefaultMaxWait
	}
	return now.Sub(g.last) >= g.spec.Quiet || g.spec.MaxFiles > 0 && len(g.members) >= g.spec.MaxFiles ||
		now.Sub(g.first) >= bound
}

// end takes what is over, never more members at once than there may be.
func (g *model) end(now time.Time) (ended []string) {
	for g.over(now) {
		n := len(g.members)
		if g.spec.MaxFiles > 0 {
			n = min(n, g.spec.MaxFiles)
		}
		ended = append(ended, strings.Join(g.members[:n], " "))
		g.members, g.first = g.members[n:], g.last
	}
	return ended
}

func TestAgainstModel(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var m Machine
		specs := []Spec{{Quiet: 3 * time.Second, MaxFiles: 2}, {Quiet: 2 * time.Second, MaxWait: 7 * time.Second},
			{Need: need("0", "1"), MaxWait: 9 * time.Second}, {Need: need("0", "1", "2")}}
		models := make([]*model, len(specs))
		for i := range models {
			models[i] = &model{spec: specs[i]}
		}
		now := start
		for range rapid.IntRange(1, 60).Draw(t, "acts") {
			g := rapid.IntRange(0, len(specs)-1).Draw(t, "group")
			path := fmt.Sprintf("%d/%d", g, rapid.IntRange(0, 5).Draw(t, "file"))
			o := models[g]
			leave := func() {
				for i, p := range o.members {
					if p == path {
						o.members = append(o.members[:i:i], o.members[i+1:]...)
						return
					}
				}
			}
			switch rapid.IntRange(0, 3).Draw(t, "act") {
			case 0, 1:
				m.Join(Key{Rule: fmt.Sprint(g)}, specs[g], Member{Path: path}, now)
				leave()
				if len(o.members) == 0 {
					o.first = now
				}
				o.members, o.last = append(o.members, path), now
			case 2:
				m.Leave(path)
				leave()
			case 3:
				now = now.Add(time.Duration(rapid.IntRange(1, 4).Draw(t, "seconds")) * time.Second)
			}
			if rapid.IntRange(0, 2).Draw(t, "look") == 0 {
				continue // several things happen at once
			}
			var got, want []string
			for _, d := range m.Due(now) {
				got = append(got, names(d))
			}
			for _, o := range models {
				want = append(want, o.end(now)...)
			}
			sort.Strings(got)
			sort.Strings(want)
			if strings.Join(got, "|") != strings.Join(want, "|") {
				t.Fatalf("ended %q, and the model says %q", got, want)
			}
		}
	})
}

// A sweep that has nothing else to do waits for no group that has waited long enough before it came.
func TestLongWaitsEndWithASweep(t *testing.T) {
	var m Machine
	spec := Spec{Need: need("1", "2"), MaxWait: time.Hour}
	old := func(path string, ago time.Duration) Member {
		return Member{Path: path, Facts: file.Facts{Change: file.Time(start.Add(-ago).UnixNano())}}
	}
	m.Join(Key{Rule: "late"}, spec, old("a1", 2*time.Hour), start)
	m.Join(Key{Rule: "new"}, spec, old("b1", 2*time.Hour), start)
	m.Join(Key{Rule: "new"}, spec, old("c1", time.Minute), start)
	m.Join(Key{Rule: "patient"}, Spec{Need: need("1", "2")}, old("d1", 2*time.Hour), start)
	require.Empty(t, m.Due(start))
	require.True(t, m.EndWaits(start))
	due := m.Due(start)
	require.Len(t, due, 1)
	require.Equal(t, "late", due[0].Key.Rule)
	require.NotEmpty(t, due[0].Missing)
	require.False(t, m.EndWaits(start))
	require.Equal(t, 3, m.Len())
}
