package fill

import (
	"fmt"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func values(word string) (Value, error) {
	switch word {
	case "file":
		return Value{Text: "/in/a b.csv", Path: true}, nil
	case "station":
		return Text("NOR/x"), nil
	case "day":
		return Text("2031-04-02"), nil
	case "up":
		return Text(".."), nil
	case "none":
		return Text(""), nil
	case "nul":
		return Text("a\x00b"), nil
	case "modified":
		return Value{Time: time.Date(2031, 4, 2, 5, 6, 7, 0, time.UTC)}, nil
	case "files":
		return Value{List: []string{"/in/one", "/in/two three"}}, nil
	case "odd":
		return Text("Käpt'n  Blau  7!"), nil
	}
	return Value{}, fmt.Errorf("there is no placeholder {%s}", word)
}

func TestFill(t *testing.T) {
	for src, want := range map[string]string{
		"plain":                    "plain",
		"{station}":                "NOR/x",
		"a{{b}}c":                  "a{b}c",
		"{modified:%Y-%m-%d}":      "2031-04-02",
		"{modified}":               "2031-04-02T05:06:07Z",
		"{day:%Y/%m}":              "2031/04",
		"{odd|slug}":               "käpt-n-blau-7",
		"{odd|upper|slug}":         "käpt-n-blau-7",
		"{day|pad:12}":             "002031-04-02",
		"{files}":                  "/in/one /in/two three",
		"{station|lower}-{day:%j}": "nor/x-092",
	} {
		tmpl, err := Parse(src)
		require.NoError(t, err, src)
		got, err := tmpl.Fill(values)
		require.NoError(t, err, src)
		require.Equal(t, want, got, src)
	}
}

func TestFillPathKeepsInPlace(t *testing.T) {
	for src, want := range map[string]string{
		"done/{station}":        "done/NOR_x",
		"done/{modified:%Y/%m}": "done/2031/04",
		"done{file}":            "done/in/a b.csv",
		"error {up}":            `{up} is ".." for this file, which would lead out of the destination`,
		"error a/{none}":        "{none} is empty for this file",
		"error {nul}":           "{nul} holds a NUL character",
		"error {station:%Y}":    "which is not a date",
		"error x/.{up|slug}.":   "",
	} {
		src, fails := strings.CutPrefix(src, "error ")
		tmpl, err := Parse(src)
		require.NoError(t, err, src)
		got, err := tmpl.FillPath(values)
		if fails {
			require.ErrorContains(t, err, want, src)
			continue
		}
		require.NoError(t, err, src)
		require.Equal(t, want, got)
	}
}

// No value, whatever it holds, makes a path that leaves the fixed folder.
func TestNoValueClimbsOut(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		piece := rapid.SampledFrom([]string{"{a}", "{b}", "/", ".", "x", "{a}{b}", ".{a}"})
		src := "top/" + strings.Join(rapid.SliceOfN(piece, 1, 5).Draw(t, "template"), "")
		tmpl, err := Parse(src)
		if err != nil {
			t.Fatal(err)
		}
		v := rapid.SliceOfN(rapid.StringMatching(`[./a]{0,4}`), 2, 2).Draw(t, "values")
		got, err := tmpl.FillPath(func(w string) (Value, error) { return Text(v[w[0]-'a']), nil })
		if err != nil || len(tmpl.Refs()) == 0 {
			return
		}
		fixed := tmpl.Fixed()
		for _, s := range strings.Split(strings.TrimPrefix(got, fixed[:strings.LastIndexByte(fixed, '/')+1]), "/") {
			if s == ".." {
				t.Fatalf("%q with %q climbs out: %q", src, v, got)
			}
		}
	})
}

func TestMistakes(t *testing.T) {
	for src, want := range map[string]string{
		"{":           "this { has no } to close it",
		"{print $1}":  "is not a placeholder",
		"{a|shout}":   `there is no filter named "shout"`,
		"{a|pad}":     "the filter pad needs a width",
		"{a|lower:2}": "takes no value",
	} {
		_, err := Parse(src)
		require.ErrorContains(t, err, want, src)
	}
	for src, want := range map[string]string{
		"":           "the command is empty",
		"cat a | b":  `"|" means nothing here`,
		"echo $HOME": `"$" means nothing here`,
		"echo 'a":    "this ' has no partner",
		`echo \`:     "the backslash at the end",
	} {
		_, err := ParseCommand(src)
		require.ErrorContains(t, err, want, src)
	}
}

func TestCommand(t *testing.T) {
	for src, want := range map[string][]string{
		"cp {file} out":             {"cp", "/in/a b.csv", "out"},
		`a "b c" 'd {file}' e\ f`:   {"a", "b c", "d /in/a b.csv", "e f"},
		"awk '{{print $1}}' {file}": {"awk", "{print $1}", "/in/a b.csv"},
		"tar {files}":               {"tar", "/in/one", "/in/two three"},
		"x --in={files}":            {"x", "--in=/in/one", "--in=/in/two three"},
		`"" a`:                      {"", "a"},
		"t {modified:%H %M}":        {"t", "05 06"},
		"  spaced\n out ":           {"spaced", "out"},
	} {
		c, err := ParseCommand(src)
		require.NoError(t, err, src)
		got, err := c.Fill(values)
		require.NoError(t, err, src)
		require.Equal(t, want, got, src)
	}
	c, err := ParseCommand("ls -l {station}")
	require.NoError(t, err)
	require.False(t, c.NamesFile())
}

// What Quote writes, a shell reads as exactly the same words.
func TestQuoteAgainstShell(t *testing.T) {
	sh, err := exec.LookPath("bash")
	if err != nil {
		t.Skip("no bash on this machine")
	}
	rapid.Check(t, func(t *rapid.T) {
		words := rapid.SliceOfN(rapid.SampledFrom([]string{"a", "", "a b", "it's", "$(x)", "`y`", "a\nb",
			"\x1b[31m", "-n", "\xff\xfe", "ü", "*", `\`, `\n'`, "{x}", "~", "a\tb", "\u202e"}), 1, 4).Draw(t,
			"words")
		out, err := exec.Command(sh, "-c", `printf '%s\0' `+Quote(words)).Output()
		if err != nil {
			t.Fatal(err)
		}
		if got := strings.Split(strings.TrimSuffix(string(out), "\x00"), "\x00"); strings.Join(got,
			"\x00") != strings.Join(words, "\x00") {
			t.Fatalf("%q was read as %q", words, got)
		}
		for _, r := range Quote(words) {
			if r < 0x20 {
				t.Fatalf("%q holds a control character", Quote(words))
			}
		}
	})
}

func FuzzParse(f *testing.F) {
	for _, s := range []string{"{a}", "{{", "{a:%Y|lower}", "a{b}c", "}", "{a|pad:3}"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		tmpl, err := Parse(s)
		if err != nil {
			return
		}
		if len(tmpl.Refs()) == 0 {
			got, err := tmpl.FillPath(values)
			if err != nil || got != strings.NewReplacer("{{", "{", "}}", "}").Replace(s) {
				t.Fatalf("%q became %q, %v", s, got, err)
			}
		}
	})
}

func FuzzParseCommand(f *testing.F) {
	for _, s := range []string{"a b", `a "b c"`, `'x'\ y`, "a {file}", `"\$"`} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		c, err := ParseCommand(s)
		if err == nil && len(c.Words) == 0 {
			t.Fatalf("%q gives no words and no error", s)
		}
	})
}

// What Line writes is read as the words that it was given.
func TestLineIsReadBack(t *testing.T) {
	piece := rapid.SampledFrom([]string{"cp", "{file}", "{at:%Y %m}", "{{", "}}", " ", ";", "'", `"`, "$HOME", "`",
		"\\", "\n", "\t", "größe", "#", "-c", "*"})
	rapid.Check(t, func(t *rapid.T) {
		var words []string
		for _, pieces := range rapid.SliceOfN(rapid.SliceOfN(piece, 0, 4), 1, 4).Draw(t, "words") {
			words = append(words, strings.Join(pieces, ""))
		}
		c, err := ParseCommand(Line(words))
		require.NoError(t, err, Line(words))
		require.Len(t, c.Words, len(words), Line(words))
		for i, w := range c.Words {
			require.Equal(t, words[i], w.String(), Line(words))
		}
	})
}

func TestFilters(t *testing.T) {
	value := func(string) (Value, error) { return Text("north mole/\"berth\" 7\n"), nil }
	for src, want := range map[string]string{
		"{w|title}": "North Mole/\"Berth\" 7\n",
		"{w|json}":  `north mole/\"berth\" 7\n`,
		"{w|slug}":  "north-mole-berth-7",
	} {
		tmpl, err := Parse(src)
		require.NoError(t, err)
		got, err := tmpl.Fill(value)
		require.NoError(t, err)
		require.Equal(t, want, got, src)
	}
}

// A value makes folders where the template says so, and leads nowhere else.
func TestFoldersOfAValue(t *testing.T) {
	tmpl, err := Parse("places/{w|folders}/x")
	require.NoError(t, err)
	for text, want := range map[string]string{
		"a/b": "places/a/b/x", "/a//b/": "places/a/b/x", "./a": "places/a/x", "a/../b": "", "..": "", "/": "", "": "",
		"a/.. /b": "places/a/.. /b/x",
	} {
		got, err := tmpl.FillPath(func(string) (Value, error) { return Text(text), nil })
		require.Equal(t, want, got, text)
		require.Equal(t, want == "", err != nil, text)
	}
	plain, err := Parse("places/{w}/x")
	require.NoError(t, err)
	got, err := plain.FillPath(func(string) (Value, error) { return Text("a/b"), nil })
	require.NoError(t, err)
	require.Equal(t, "places/a_b/x", got)
}
