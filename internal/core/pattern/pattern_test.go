package pattern

import (
	"slices"
	"strings"
	"testing"

	"github.com/bmatcuk/doublestar/v4"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// The table reads like a specification: pattern, path below the watched
// folder, whether it fits, and what was captured.
func TestPatterns(t *testing.T) {
	tests := []struct {
		pattern, rel string
		fits         bool
		captures     string // word=value, space-separated
	}{
		{"*", "a.csv", true, ""},
		{"*.csv", "a.csv", true, ""},
		{"*.csv", "a.CSV", false, ""},
		{".csv", "a.CSV", true, ""},
		{".tar.gz", "a.Tar.GZ", true, ""},
		{".csv", "csv", false, ""},
		{"*.csv", "below/a.csv", true, ""}, // no slash: for the name alone
		{"a/*.csv", "a/b.csv", true, ""},
		{"a/*.csv", "a/b/c.csv", false, ""},
		{"**/c.csv", "c.csv", true, ""},
		{"**/c.csv", "a/b/c.csv", true, ""},
		{"a/**", "a/b/c", true, ""},
		{"a/**", "a", false, ""},
		{"a/**/c", "a/c", true, ""},
		{"a/**/c", "a/x/y/c", true, ""},
		{"?.txt", "a.txt", true, ""},
		{"?.txt", "ä.txt", true, ""},
		{"?.txt", ".txt", false, ""},
		{"[a-c]1", "b1", true, ""},
		{"[!a-c]1", "b1", false, ""},
		{"[^a-c]1", "d1", true, ""},
		{"[]]", "]", true, ""},
		{"[a-]", "-", true, ""},
		{"{jpg,png}", "png", true, ""},
		{"*.{jp{e,}g,png}", "a.jpg", true, ""},
		{`\*`, "*", true, ""},
		{`\*`, "a", false, ""},
		{"a.b", "axb", false, ""},
		{"(x)+$", "(x)+$", true, ""},
		{"gauge-<station>_<day>.csv", "gauge-NOR_2031-04-02.csv", true, "station=NOR day=2031-04-02"},
		{"<a>-<b>.txt", "x-y-z.txt", true, "a=x b=y-z"}, // the first as short as possible
		{"<a=[0-9]>*", "7up", true, "a=7"},
		{"<a={north,pier}>.csv", "pier.csv", true, "a=pier"},
		{"<a={north,pier}>.csv", "sluice.csv", false, ""},
		{"<year>/<name>", "2031/x", true, "year=2031 name=x"},
		{"<a>", "line\nbreak", true, "a=line\nbreak"},
		{`re:^(?P<n>\d+)-.*`, "12-x", true, "n=12"},
		{`re:\d+`, "a12", false, ""}, // the whole name must fit
		{"caf\u00e9", "cafe\u0301", true, ""},
		{"*.csv", "bad\xff.csv", true, ""},
	}
	for _, tt := range tests {
		t.Run(tt.pattern+" on "+tt.rel, func(t *testing.T) {
			p, err := Compile(tt.pattern, Options{})
			require.NoError(t, err)
			name := tt.rel[strings.LastIndexByte(tt.rel, '/')+1:]
			captures, ok := p.Captures(name, tt.rel)
			require.Equal(t, tt.fits, ok)
			require.Equal(t, tt.fits, p.Match(name, tt.rel))
			var got []string
			for _, n := range p.Names() {
				if ok {
					got = append(got, n+"="+captures[n])
				}
			}
			require.Equal(t, tt.captures, strings.Join(got, " "))
		})
	}
}

func TestMistakes(t *testing.T) {
	for text, want := range map[string]string{
		"":            "the pattern is empty",
		"a[b":         "this [ has no ] to close it",
		"a{b":         "this { has no } to close it",
		"a}b":         "this } closes nothing",
		"<a":          "this < has no > to close it",
		"<A>":         `the capture name "A" is not a plain word`,
		"<a><a>":      "the capture name a stands twice",
		`a\`:          "the backslash at the end has nothing to act on",
		"[z-a]":       "the range z-a runs backwards",
		"re:(":        "this regular expression cannot be read",
		"re:(?P<X>a)": "the capture name X is not a plain word",
	} {
		_, err := Compile(text, Options{})
		require.ErrorContains(t, err, want, text)
	}
}

func TestLists(t *testing.T) {
	l, _, err := CompileList([]string{"!*.tmp", "*.csv", "a<n>.txt"}, Options{})
	require.NoError(t, err)
	require.True(t, l.Fits("x.csv", "x.csv"))
	require.False(t, l.Fits("x.tmp", "x.tmp"))
	c, ok := l.Match("a1.txt", "a1.txt")
	require.True(t, ok)
	require.Equal(t, map[string]string{"n": "1"}, c)
	shared, partial := l.Shared()
	require.Empty(t, shared)
	require.Equal(t, []string{"n"}, partial)

	l, _, err = CompileList([]string{"!*.tmp"}, Options{})
	require.NoError(t, err)
	require.True(t, l.Fits("x", "x"), "only ! patterns means everything else")

	_, at, err := CompileList([]string{"ok", "[x"}, Options{})
	require.Error(t, err)
	require.Equal(t, 1, at)

	l, _, err = CompileList([]string{"*.CSV"}, Options{IgnoreCase: true})
	require.NoError(t, err)
	require.True(t, l.Fits("a.csv", "a.csv"))
}

// A list fits what one of its patterns fits, however long it is.
func TestAListFitsWhatItsPatternsFit(t *testing.T) {
	glob := rapid.SampledFrom([]string{"*.a", "*b", "b*", ".*", "~$*", "*", "a?b", "{a,b}*", "[ab]*", "a", "*/b",
		"a/*", ".a", "re:b+", "é*", "*é", "<n>b", "a<n>"})
	rapid.Check(t, func(t *rapid.T) {
		texts := rapid.SliceOfN(glob, 1, 4).Draw(t, "patterns")
		name := rapid.StringMatching(`[ab.~$é]{0,4}`).Draw(t, "name")
		rel := rapid.SampledFrom([]string{"", "a/", "b/a/"}).Draw(t, "folder") + name
		l, _, err := CompileList(texts, Options{})
		require.NoError(t, err)
		fits := slices.ContainsFunc(texts, func(text string) bool {
			p, err := Compile(text, Options{})
			require.NoError(t, err)
			return p.Match(name, rel)
		})
		require.Equal(t, fits, l.Fits(name, rel))
		_, matches := l.Match(name, rel)
		require.Equal(t, fits, matches)
	})
}

// Plain globs mean what they mean elsewhere: doublestar is the oracle. Left out
// are negated classes, which fit a slash there and never do here.
func TestPlainGlobsAgainstOracle(t *testing.T) {
	piece := rapid.SampledFrom([]string{"a", "b", ".", "-", "*", "?", "[ab]", "[a-c]", "{a,b}", "{ab,ba}", "é"})
	segment := rapid.Custom(func(t *rapid.T) string {
		if rapid.IntRange(0, 4).Draw(t, "deep") == 0 {
			return "**"
		}
		return strings.Join(rapid.SliceOfN(piece, 1, 4).Draw(t, "pieces"), "")
	})
	name := rapid.StringMatching(`[abc.é-]{1,5}`)
	rapid.Check(t, func(t *rapid.T) {
		// A leading slash in both makes every pattern wide.
		glob := "r/" + strings.Join(rapid.SliceOfN(segment, 1, 3).Draw(t, "segments"), "/")
		rel := "r/" + strings.Join(rapid.SliceOfN(name, 1, 3).Draw(t, "names"), "/")
		p, err := Compile(glob, Options{})
		if err != nil {
			t.Fatalf("%q: %v", glob, err)
		}
		oracle := glob
		if strings.HasSuffix(glob, "/**") {
			oracle += "/*" // here a/** is what lies below a, and not a itself
		}
		want, err := doublestar.Match(oracle, rel)
		if err != nil {
			t.Fatalf("%q: %v", glob, err)
		}
		if got := p.Match(rel[strings.LastIndexByte(rel, '/')+1:], rel); got != want {
			t.Fatalf("%q on %q: %v, and doublestar says %v", glob, rel, got, want)
		}
	})
}

// token is a pattern piece for the slow, obvious model.
type token struct{ text, capture string }

// slowMatch tries every length, shortest first, from the left.
func slowMatch(tokens []token, s string, got map[string]string) bool {
	if len(tokens) == 0 {
		return s == ""
	}
	first, rest := tokens[0], tokens[1:]
	for n := 0; n <= len(s); n++ {
		head := s[:n]
		fits := head == first.text
		if first.text == "*" {
			fits = !strings.Contains(head, "/")
		}
		if fits && slowMatch(rest, s[n:], got) {
			if first.capture != "" {
				got[first.capture] = head
			}
			return true
		}
	}
	return false
}

func TestCapturesAgainstModel(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var tokens []token
		var glob strings.Builder
		for i := range rapid.IntRange(1, 6).Draw(t, "pieces") {
			word := string(rune('p' + i))
			switch rapid.IntRange(0, 3).Draw(t, "kind") {
			case 0:
				tokens = append(tokens, token{text: "*"})
				glob.WriteString("*")
				if i > 0 && strings.HasSuffix(glob.String(), "**") {
					glob.WriteString("<z" + word + "=>") // keeps two stars apart
					tokens = append(tokens, token{capture: "z" + word})
				}
			case 1:
				tokens = append(tokens, token{text: "*", capture: word})
				glob.WriteString("<" + word + ">")
			case 2:
				tokens = append(tokens, token{text: "ab", capture: word})
				glob.WriteString("<" + word + "=ab>")
			default:
				lit := rapid.SampledFrom([]string{"a", "b", "-", "ab", "_"}).Draw(t, "literal")
				tokens = append(tokens, token{text: lit})
				glob.WriteString(lit)
			}
		}
		s := rapid.StringMatching(`[ab_-]{0,8}`).Draw(t, "name")
		p, err := Compile(glob.String(), Options{})
		if err != nil {
			t.Fatalf("%q: %v", glob.String(), err)
		}
		want := map[string]string{}
		wantOK := slowMatch(tokens, s, want)
		got, ok := p.Captures(s, s)
		if ok != wantOK {
			t.Fatalf("%q on %q: %v, model %v", glob.String(), s, ok, wantOK)
		}
		for k, v := range got {
			if want[k] != v {
				t.Fatalf("%q on %q: %v, model %v", glob.String(), s, got, want)
			}
		}
	})
}

func FuzzCompile(f *testing.F) {
	for _, s := range []string{"*.csv", "a/**/b", "<a={x,y}>", "[!a-z]", `\{`, "re:(?P<n>x)", ".tar.gz", "{,}"} {
		f.Add(s, "name.csv")
	}
	f.Fuzz(func(t *testing.T, text, name string) {
		p, err := Compile(text, Options{})
		if err != nil {
			if e, ok := err.(*Error); !ok || e.Message == "" {
				t.Fatalf("%q: %v", text, err)
			}
			return
		}
		captures, ok := p.Captures(name, name)
		if ok && len(captures) != len(p.Names()) {
			t.Fatalf("%q on %q: captures %v of %v", text, name, captures, p.Names())
		}
	})
}

func BenchmarkMatch(b *testing.B) {
	p, err := Compile("gauge-<station>_<day>.csv", Options{})
	require.NoError(b, err)
	for b.Loop() {
		p.Match("gauge-NOR_2031-04-02.csv", "gauge-NOR_2031-04-02.csv")
	}
}

// A glob of one level stands for names of one level.
func TestCapturesPathKeepsToItsLevels(t *testing.T) {
	for _, one := range []struct {
		pattern, path string
		fits          bool
	}{
		{"in*", "in", true}, {"in*", "inbox", true}, {"in*", "in/sub", false}, {"*", "a/b", false},
		{"<a>", "a/b", false},
		{"a/*", "a/b", true}, {"a/*", "a/b/c", false}, {"a/**", "a/b/c", true}, {"**", "a/b", true},
	} {
		p, err := Compile(one.pattern, Options{})
		require.NoError(t, err)
		_, ok := p.CapturesPath(one.path)
		require.Equal(t, one.fits, ok, "%s and %s", one.pattern, one.path)
	}
}
