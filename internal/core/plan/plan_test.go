package plan

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"stilltide/internal/core/file"
	"stilltide/internal/core/fill"
	"stilltide/internal/core/notation"
	"stilltide/internal/core/rule"
)

func rules(t testing.TB, text string) *Set {
	t.Helper()
	f, diags := notation.Parse("/office/stilltide.yaml", []byte("version: 1\nrules:\n"+text))
	require.Empty(t, diags)
	return NewSet(f)
}

func names(c []Candidate) string {
	var out []string
	for _, one := range c {
		out = append(out, one.Rule.Name.S)
	}
	return strings.Join(out, " ")
}

func TestCandidates(t *testing.T) {
	s := rules(t, `
  - {name: gauges, watch: in, match: "gauge-<station>_<day>.csv", processed: "in/done/{station}"}
  - {name: csv, watch: [in, other], match: .csv}
  - {name: parts, watch: in, match: "*.part"}
  - {name: rest, watch: in, failed: in/trouble}
`)
	for path, want := range map[string]string{
		"/office/in/gauge-NOR_1.csv":         "gauges csv rest",
		"/office/in/x.CSV":                   "csv rest",
		"/office/other/x.csv":                "csv",
		"/office/in/x.txt":                   "rest",
		"/office/in/x.part":                  "parts", // a pattern that spells the ending out lifts it
		"/office/in/x.tmp":                   "",
		"/office/in/.hidden":                 "",
		"/office/in/~$letter.docx":           "",
		"/office/in/.stilltide-abcdefgh":     "",
		"/office/in/x.csv.failed.txt":        "",
		"/office/in/deep/x.csv":              "", // depth 0
		"/office/elsewhere/x.csv":            "",
		"/office/.stilltide/ledger.sqlite":   "",
		"/office/in/gauge-bad\xff_2\n31.csv": "gauges csv rest",
	} {
		require.Equal(t, want, names(s.Candidates(path)), path)
	}
	c := s.Candidates("/office/in/gauge-NOR_2031-04-02.csv")[0]
	require.Equal(t, map[string]string{"station": "NOR", "day": "2031-04-02"}, c.Captures)
	require.Equal(t, map[string]int{"/office/in": 0, "/office/other": 0}, s.Folders())
	require.True(t, s.Watched("/office/in/.hidden"))
	require.False(t, s.Watched("/office/x"))
}

func TestGlobsOfFolders(t *testing.T) {
	s := rules(t, `
  - {name: stations, watch: "in/<station>/<year=20??>", match: "*.csv", processed: "done/{station}/{year}"}
  - {name: boxes, watch: "box/**", depth: 1}
  - {name: cards, watch: "cards/slot-<n>", unit: folder}
`)
	for path, want := range map[string]string{
		"/office/in/NOR/2031/a.csv":     "stations",
		"/office/in/NOR/2031/sub/a.csv": "",
		"/office/in/NOR/1999/a.csv":     "",
		"/office/in/NOR/a.csv":          "",
		"/office/in/a.csv":              "",
		"/office/box/a/b/c/d":           "boxes",
		"/office/cards/slot-1/x/y/z":    "cards",
		"/office/cards/other/x/y":       "",
	} {
		require.Equal(t, want, names(append(s.Units(path, false), s.Candidates(path)...)), path)
	}
	c := s.Candidates("/office/in/NOR/2031/a.csv")[0]
	require.Equal(t, "/office/in/NOR/2031", c.Watch)
	_, ends, err := c.Targets(file.Facts{Exists: true, Regular: true}, file.Added, now, "/state")
	require.NoError(t, err)
	require.Equal(t, "/office/done/NOR/2031/a.csv", ends)
	require.Equal(t, "/office/cards/slot-1/x", s.Units("/office/cards/slot-1/x/y/z", false)[0].Unit)
	require.Equal(t, 2, s.Folders()["/office/in"])
	conditions, fits := s.Explain(s.Rule("stations"), "/office/in/NOR/a.csv",
		file.Facts{Exists: true, Regular: true}, file.Added, now)
	require.False(t, fits)
	require.Equal(t, "watch", conditions[0].Key)
}

func job(s *Set, path string) *Job {
	c := s.Candidates(path)[0]
	return &Job{Rule: c.Rule, ID: 7, File: path, Watch: c.Watch, Captures: c.Captures, Event: file.Added,
		Attempt: 2, Scratch: "/s/7-2", Hash: "abc",
		Facts: file.Facts{Size: 12, Mod: file.At(time.Date(2031, 4, 2, 5, 6, 7, 0, time.UTC))},
		Now:   time.Date(2031, 4, 3, 0, 0, 0, 0, time.UTC)}
}

func TestPlaceholders(t *testing.T) {
	s := rules(t, `  - {name: r, watch: in, match: "<a>.tar.gz"}`)
	j := job(s, "/office/in/x y.tar.gz")
	for word, want := range map[string]string{
		"file": "/office/in/x y.tar.gz", "name": "x y.tar.gz", "stem": "x y.tar", "ext": "gz",
		"folder": "/office/in", "watch": "/office/in",
		"rel": "x y.tar.gz", "rel_folder": ".", "size": "12", "event": "added", "hash": "abc", "rule": "r",
		"job": "7", "attempt": "2", "scratch": "/s/7-2", "a": "x y",
	} {
		v, err := j.Lookup(word)
		require.NoError(t, err, word)
		require.Equal(t, want, v.Text, word)
	}
	_, err := j.Lookup("nothing")
	require.Error(t, err)
	_, err = j.Lookup("created")
	require.ErrorContains(t, err, "does not know when x y.tar.gz was made")
	j.Facts.Inside = &file.Inside{Made: time.Date(2031, 4, 2, 0, 0, 0, 0, time.UTC)}
	for _, w := range rule.BuiltIn() {
		_, err := j.Lookup(w)
		require.NoError(t, err, "%s is documented, so it must have a value", w)
	}
}

func TestDestinations(t *testing.T) {
	s := rules(t, `
  - name: r
    watch: in
    match: "<a>_<b>.csv"
    processed: {to: "done/{a}/{modified:%Y/%m}", as: "{stem}-{size}.{ext}"}
    failed: /abs/{b}
`)
	j := job(s, "/office/in/x_..csv")
	spot, err := j.Destination(j.Rule.Processed)
	require.NoError(t, err)
	require.Equal(t, Spot{Root: "/office/done", Rel: "x/2031/04", Name: "x_.-12.csv"}, spot)
	for text, want := range map[string]Spot{
		"{scratch}/x":        {Root: "/s/7-2", Rel: "x"},
		"{watch}/{a}":        {Root: "/office/in", Rel: "x"},
		"{folder}/small":     {Root: "/office/in", Rel: "small"},
		"out/{a}/{b|pad:2}0": {Root: "/office/out", Rel: "x/0.0"},
		"out":                {Root: "/office/out"},
	} {
		tmpl, err := fill.Parse(text)
		require.NoError(t, err)
		got, err := j.folder(tmpl, "/office")
		if text == "out/{a}/{b|pad:2}0" {
			require.NoError(t, err)
		}
		require.Equal(t, want, got, text)
	}
	_, err = j.Destination(j.Rule.Failed)
	require.ErrorContains(t, err, `{b} is "." for this file`)
}

func TestCommands(t *testing.T) {
	s := rules(t, `
  - {name: a, watch: a, run: ./bin/x --fast}
  - {name: b, watch: b, run: "x {stem}"}
  - {name: c, watch: c, do: [{run: x, add_file: false, working_folder: "work/{stem}", env: {K: v}}]}
  - {name: d, watch: d, script: "#!/usr/bin/env -S awk -f\n{print}"}
  - {name: e, watch: e, do: [{script: "print(1)", interpreter: "python3 -u"}]}
`)
	args := func(path string) []string {
		c, err := job(s, path).Command(&job(s, path).Rule.Steps[0], "/state")
		require.NoError(t, err)
		return c.Args
	}
	require.Equal(t, []string{"/office/bin/x", "--fast", "/office/a/q r"}, args("/office/a/q r"))
	require.Equal(t, []string{"x", "q r"}, args("/office/b/q r.txt"))
	require.Equal(t, []string{"x"}, args("/office/c/f"))
	d := args("/office/d/f")
	require.Equal(t, []string{"/usr/bin/env", "-S awk -f"}, d[:2], "the rest of a #! line is one word")
	require.Equal(t, "/office/d/f", d[3])
	require.Equal(t, []string{"python3", "-u"}, args("/office/e/f")[:2])
	j := job(s, "/office/c/f")
	c, err := j.Command(&j.Rule.Steps[0], "/state")
	require.NoError(t, err)
	require.Equal(t, "/office/work/f", c.Dir)
	require.Equal(t, "cd /office/work/f && env K=v x", c.ByHand())
}

func TestNote(t *testing.T) {
	s := rules(t, `  - {name: r, watch: in, run: "./check {file}", failed: failed}`)
	j := job(s, "/office/in/bad\x1b[31m.csv")
	j.File = "/office/failed/bad\x1b[31m.csv"
	text := Failure{Job: j, Taken: "/office/in/bad\x1b[31m.csv", Reason: "check ended with exit code 3",
		Output:   []string{"line 7", "\x1b]0;x\a"},
		Attempts: []Try{{Started: j.Now, Ran: 1500 * time.Millisecond, Reason: "check ended with exit code 3"}},
		State:    "/state", Rules: "/office/stilltide.yaml"}.Note()
	require.True(t, strings.HasPrefix(text, "check ended with exit code 3\n"))
	for _, want := range []string{"Attempt 1  2031-04-03 00:00:00, ran 1.5 s", "    line 7\n",
		`cd /office && /office/check $'/office/failed/bad\033[31m.csv'`,
		"stilltide --config /office/stilltide.yaml retry 7"} {
		require.Contains(t, text, want)
	}
	require.NotContains(t, text, "\x1b", "no control character reaches whoever reads the note")
}

func TestSpan(t *testing.T) {
	for d, want := range map[time.Duration]string{
		8 * time.Millisecond: "8 ms", 2400 * time.Millisecond: "2.4 s", 192 * time.Second: "3m12s",
		5*time.Hour + 2*time.Minute: "5h02m", 76 * time.Hour: "3d04h",
	} {
		require.Equal(t, want, Span(d))
	}
}

func BenchmarkCandidates300(b *testing.B) {
	var text strings.Builder
	for i := range 300 {
		name := "r" + string(rune('a'+i/26)) + string(rune('a'+i%26))
		text.WriteString("  - {name: " + name + ", watch: in/" + name + ", match: \"*.csv\"}\n")
	}
	s := rules(b, text.String())
	for b.Loop() {
		s.Candidates("/office/in/raa/x.csv")
	}
}
