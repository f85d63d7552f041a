package plan

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"stilltide/internal/core/file"
	"stilltide/internal/core/rule"
)

// now is the table's present: files are changed a minute ago unless a row says otherwise.
var now = time.Date(2031, 4, 2, 12, 0, 0, 0, time.UTC)

// row is one line of the specification: what a rule says, a file, and whether
// the rule takes it.
type row struct {
	keys  string // keys of the rule, in flow style
	file  string // path below in/
	takes bool
	f     file.Facts // what is unusual about it
}

func big(n int64) file.Facts           { return file.Facts{Size: n} }
func old(d time.Duration) file.Facts   { return file.Facts{Mod: file.At(now.Add(-d))} }
func kind(k string) file.Facts         { return file.Facts{Inside: &file.Inside{Kind: k}} }
func tagged(tags ...string) file.Facts { return file.Facts{Inside: &file.Inside{Tags: tags}} }
func folder() file.Facts               { return file.Facts{Dir: true} }
func bigAndOld(n int64, d time.Duration) file.Facts {
	return file.Facts{Size: n, Mod: file.At(now.Add(-d))}
}

var table = []row{
	// Every name, but not what is hidden or unfinished.
	{``, "a.csv", true, file.Facts{}},
	{``, ".hidden", false, file.Facts{}},
	{`hidden: true`, ".hidden", true, file.Facts{}},
	{`hidden: true`, ".a.csv.swp", false, file.Facts{}},
	{``, "film.mkv.part", false, file.Facts{}},
	{`match: "*.part"`, "film.mkv.part", true, file.Facts{}},
	{`match: [.part, .csv]`, "film.mkv.part", true, file.Facts{}},
	{``, "letter.txt~", false, file.Facts{}},
	{``, "~$letter.docx", false, file.Facts{}},
	{``, "4913", false, file.Facts{}},
	{``, "report.csv.failed.txt", false, file.Facts{}},
	{``, ".stilltide-abcdefgh", false, file.Facts{}},
	{`hidden: true`, ".stilltide-abcdefgh", false, file.Facts{}},
	// Names.
	{`match: "*.csv"`, "a.csv", true, file.Facts{}},
	{`match: "*.csv"`, "A.CSV", false, file.Facts{}},
	{`match: .csv`, "A.CSV", true, file.Facts{}},
	{`{match: "*.csv", ignore_case: true}`, "A.CSV", true, file.Facts{}},
	{`match: [.csv, .txt]`, "a.txt", true, file.Facts{}},
	{`match: "gauge-*"`, "gauge-NOR.csv", true, file.Facts{}},
	{`match: "*NOR*"`, "gauge-NOR.csv", true, file.Facts{}},
	{`match: "gauge-<station>_<day>.csv"`, "gauge-NOR_2031-04-02.csv", true, file.Facts{}},
	{`match: "gauge-<station={NOR,PIR}>.csv"`, "gauge-SLU.csv", false, file.Facts{}},
	{`match: ["*", "!*.tmp2"]`, "a.tmp2", false, file.Facts{}},
	{`match: "!draft-*"`, "draft-1", false, file.Facts{}},
	{`match: "!draft-*"`, "final-1", true, file.Facts{}},
	{`match: ["!draft-*", "*.txt"]`, "draft-1.txt", false, file.Facts{}},
	{`match: "re:^[a-z]{3}[.]csv$"`, "abc.csv", true, file.Facts{}},
	{`match: "re:^[a-z]{3}[.]csv$"`, "abcd.csv", false, file.Facts{}},
	{`match: "chart?.pgm"`, "chart7.pgm", true, file.Facts{}},
	{`match: "chart[0-4].pgm"`, "chart7.pgm", false, file.Facts{}},
	{`match: "*"`, "name with spaces", true, file.Facts{}},
	{`match: "*"`, "new\nline", true, file.Facts{}},
	{`match: "*.csv"`, "bad\xff.csv", true, file.Facts{}},
	{`match: "$(rm -rf)*"`, "$(rm -rf) x", true, file.Facts{}},
	{`match: '\{a\}'`, "{a}", true, file.Facts{}},
	{`match: "cafe*"`, "cafe\u0301", false, file.Facts{}}, // compared as one character, é
	{`match: "café"`, "cafe\u0301", true, file.Facts{}},
	// Subfolders.
	{``, "sub/a.csv", false, file.Facts{}},
	{`depth: 1`, "sub/a.csv", true, file.Facts{}},
	{`depth: 1`, "sub/sub/a.csv", false, file.Facts{}},
	{`depth: all`, "a/b/c/d/e.csv", true, file.Facts{}},
	{`{depth: all, match: "a/**/*.csv"}`, "a/b/c.csv", true, file.Facts{}},
	{`{depth: all, match: "a/*.csv"}`, "a/b/c.csv", false, file.Facts{}},
	{`{depth: all, match: "*.csv"}`, "a/b/c.csv", true, file.Facts{}},
	{`depth: all`, ".git/config", false, file.Facts{}},
	{`{depth: all, hidden: true}`, ".git/config", true, file.Facts{}},
	{`{depth: all, processed: in/done}`, "done/a.csv", false, file.Facts{}},
	{`{depth: all, failed: in/failed}`, "failed/a.csv", false, file.Facts{}},
	// Whole folders.
	{`unit: folder`, "card", true, folder()},
	{`unit: folder`, "card", false, file.Facts{}},
	{`{unit: folder, match: "card-*"}`, "other", false, folder()},
	{``, "card", false, folder()},
	// Size, age, kind.
	{`size: 100B..`, "a", false, big(99)},
	{`size: 100B..`, "a", true, big(100)},
	{`size: ..2KiB`, "a", true, big(2048)},
	{`size: ..2KiB`, "a", false, big(2049)},
	{`size: 1KB..2KB`, "a", true, big(1500)},
	{`age: 1h..`, "a", true, old(2 * time.Hour)},
	{`age: 1h..`, "a", false, old(time.Minute)},
	{`age: ..1d`, "a", false, old(25 * time.Hour)},
	{`age: ..1d`, "a", true, old(-time.Hour)}, // a time in the future is age 0
	{`media_type: "image/*"`, "a", true, kind("image/png")},
	{`media_type: ["image/*", text/csv]`, "a", true, kind("text/csv")},
	{`media_type: "image/*"`, "a", false, kind("text/plain")},
	// Expressions.
	{`where: size > 100 * MB`, "a", true, big(100_000_001)},
	{`where: size > 100 * MB`, "a", false, big(100_000_000)},
	{`where: 'name.startsWith("gauge") && ext == "csv"'`, "gauge-1.csv", true, file.Facts{}},
	{`where: 'rel == "a.csv"'`, "a.csv", true, file.Facts{}},
	{`where: 'age > duration("1h")'`, "a", true, old(2 * time.Hour)},
	{`where: 'modified.getFullYear() == 2031'`, "a", true, file.Facts{}},
	{`where: '"urgent" in tags'`, "a", true, tagged("urgent", "chart")},
	{`where: '"urgent" in tags'`, "a", false, file.Facts{}},
	{`{match: "<station>_*", where: 'station in ["NOR", "PIR"]'}`, "NOR_1", true, file.Facts{}},
	{`{match: "<station>_*", where: 'station in ["NOR", "PIR"]'}`, "SLU_1", false, file.Facts{}},
	{`{let: {large: 'size > 5'}, where: large}`, "a", true, big(6)},
	{`{let: {large: 'size > 5', both: 'large && name == "a"'}, where: both}`, "b", false, big(6)},
	{`where: 'event == "added"'`, "a", true, file.Facts{}},
	{`{size: 1KB.., age: 1h.., where: 'stem == "a"'}`, "a.x", true, bigAndOld(2000, 2*time.Hour)},
	{`{size: 1KB.., age: 1h.., where: 'stem == "a"'}`, "b.x", false, bigAndOld(2000, 2*time.Hour)},
	// Off, markers.
	{`enabled: false`, "a.csv", false, file.Facts{}},
	{`ready: {marker: "{name}.ok"}`, "a.csv.ok", false, file.Facts{}},
	{`ready: {marker: "{name}.ok"}`, "a.csv", true, file.Facts{}},
}

func TestTable(t *testing.T) {
	require.Greater(t, len(table), 60)
	for _, tt := range table {
		t.Run(tt.keys+" on "+tt.file, func(t *testing.T) {
			keys := strings.TrimSuffix(strings.TrimPrefix(tt.keys, "{"), "}")
			if strings.HasPrefix(tt.keys, "{") != strings.HasSuffix(tt.keys, "}") || !strings.HasPrefix(tt.keys,
				"{") {
				keys = tt.keys
			}
			if keys != "" {
				keys = ", " + keys
			}
			s := rules(t, "  - {name: r, watch: in"+keys+"}")
			path := "/office/in/" + tt.file
			f := tt.f
			f.Exists, f.Regular = true, !f.Dir
			if f.Mod == 0 {
				f.Mod = file.At(now.Add(-time.Minute))
			}
			candidates := s.Candidates(path)
			if f.Dir {
				candidates = s.Units(path, true)
			}
			takes := false
			for _, c := range candidates {
				takes, _ = c.Fits(f, file.Added, now)
			}
			require.Equal(t, tt.takes, takes)
			// What `why` says is what happens.
			_, says := s.Explain(s.Rules()[0], path, f, file.Added, now)
			require.Equal(t, tt.takes, says, "why says something else")
		})
	}
}

// No rule takes the marker of another one, however that names its folders.
func TestNoRuleTakesAMarker(t *testing.T) {
	for _, watch := range []string{"in", "'in*'", "['in*', other]"} {
		s := rules(t, "  - {name: done, watch: "+watch+", match: '*.csv', ready: {marker: '{name}.ok'}}\n"+
			"  - {name: rest, watch: "+watch+"}")
		require.Empty(t, s.Candidates("/office/in/a.csv.ok"), watch)
		require.Len(t, s.Candidates("/office/in/a.csv"), 2, watch)
		require.Empty(t, s.Candidates("/office/elsewhere/a.csv.ok"), watch)
	}
}

func TestTooYoungIsLookedAtLater(t *testing.T) {
	s := rules(t, `  - {name: r, watch: in, age: 1h.., size: 1B..}`)
	c := s.Candidates("/office/in/a")[0]
	fits, later := c.Fits(file.Facts{Exists: true, Regular: true, Size: 5,
		Mod: file.At(now.Add(-10 * time.Minute))}, file.Added, now)
	require.False(t, fits)
	require.Equal(t, now.Add(50*time.Minute), later.UTC())
	_, later = c.Fits(file.Facts{Exists: true, Regular: true, Mod: file.At(now)}, file.Added, now)
	require.True(t, later.IsZero(), "it fails by size, too")
}

func TestLoopsAndShadows(t *testing.T) {
	s := rules(t, `
  - {name: a, watch: a, processed: b}
  - {name: b, watch: b, processed: "c/{stem}"}
  - {name: c, watch: c, depth: all, processed: a}
  - {name: d, watch: d, processed: e}
  - {name: round, watch: a, match: "*.csv"}
  - {name: shadowed, watch: d, match: "*.csv"}
  - {name: free, watch: d, share: false, events: removed}
`)
	loops := s.Loops()
	require.Len(t, loops, 1)
	require.Equal(t, "a", loops[0][0].Name.S)
	require.Len(t, loops[0], 3)
	require.Equal(t, "d", s.Shadowed(s.Rule("shadowed")).Name.S)
	require.Nil(t, s.Shadowed(s.Rule("round")), "it takes what has gone round, which a does not take again")
	require.Nil(t, s.Shadowed(s.Rule("free")))
	require.Nil(t, s.Shadowed(s.Rule("d")))
}

// One finding a loop, the shortest way, whatever the number of ways; none where depth
// or disjoint patterns make it impossible.
func TestLoopsAreFoundOnce(t *testing.T) {
	lead := func(text string) []string {
		var found []string
		for _, loop := range rules(t, text).Loops() {
			var names []string
			for _, r := range loop {
				names = append(names, r.Name.S)
			}
			found = append(found, fmt.Sprint(names))
		}
		return found
	}
	var many strings.Builder
	for i := range 200 {
		fmt.Fprintf(&many, "  - {name: r%d, watch: D, depth: all, processed: \"D/{modified:%%Y}\"}\n", i)
	}
	require.Equal(t, []string{"[r0 r1]"}, lead(many.String()))
	require.Empty(t, lead(strings.ReplaceAll(many.String(), "depth: all, ", "")),
		"what is filled lies a level deeper")
	require.Equal(t, []string{"[a " +
		"b]"}, lead("  - {name: a, watch: A, do: [{mirror: B}]}\n  - {name: b, watch: B, do: [{mirror: A}]}\n"))
	require.Equal(t, []string{"[a " +
		"c]"}, lead("  - {name: a, watch: A, do: [{copy: B}], processed: C}\n  - {name: b, watch: B, processed: "+
		"C}\n  - {name: c, watch: C, do: [{move: A}]}\n"))
	require.Empty(t, lead("  - {name: a, watch: A, match: \"*.csv\", processed: B}\n  - {name: b, watch: B, "+
		"match: \"*.txt\", processed: A}\n"))
	require.Equal(t, []string{"[a " +
		"b]"}, lead("  - {name: a, watch: A, match: \"*.csv\", processed: {to: B, as: x.txt}}\n  - {name: b, "+
		"watch: B, match: \"*.txt\", processed: {to: A, as: x.csv}}\n"))
}

func TestStaysPut(t *testing.T) {
	for place, want := range map[string]int{"in": 1, `"{folder}"`: 1, `"{watch}/{rel_folder}"`: 1, `"{watch}"`: 1,
		"out": 0, `"in/{ext}"`: 0, "{to: in, as: x}": 0} {
		require.Len(t, rules(t, "  - {name: a, watch: in, processed: "+place+"}\n").StaysPut(), want, place)
	}
	require.Empty(t, rules(t, "  - {name: a, watch: in, depth: all, processed: in}\n").StaysPut())
}

func TestLetWordsFill(t *testing.T) {
	s := rules(t, `
  - name: r
    watch: in
    let: {class: 'size > 100 * MB ? "big" : "small"', week: 'modified - duration("24h")'}
    processed: "{class}/{week:%Y-%m-%d}"
`)
	c := s.Candidates("/office/in/a")[0]
	f := file.Facts{Exists: true, Regular: true, Size: 5, Mod: file.At(now)}
	_, ends, err := c.Targets(f, file.Added, now, "/state")
	require.NoError(t, err)
	require.Equal(t, "/office/small/2031-04-01/a", ends)
	_ = rule.BuiltIn()
}

func BenchmarkMatch300Rules(b *testing.B) {
	var text strings.Builder
	for i := range 300 {
		name := "r" + string(rune('a'+i/26)) + string(rune('a'+i%26))
		text.WriteString("  - {name: " + name + ", watch: in, match: \"" + name +
			"-<n>_*.csv\", where: 'size > 5'}\n")
	}
	s := rules(b, text.String())
	f := file.Facts{Exists: true, Regular: true, Size: 9, Mod: file.At(now)}
	b.ReportAllocs()
	for b.Loop() {
		for _, c := range s.Candidates("/office/in/rln-7_x.csv") {
			c.Fits(f, file.Added, now)
		}
	}
}
