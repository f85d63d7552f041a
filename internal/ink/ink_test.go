package ink

import (
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/mattn/go-runewidth"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// Whatever a file is called, its name can do nothing to a terminal, and takes
// the columns that it is counted for.
func TestNamesOnATerminal(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s := rapid.OneOf(rapid.StringMatching(`[ -~]{0,40}`), rapid.String(), rapid.Map(rapid.SliceOf(rapid.Byte()),
			func(b []byte) string { return string(b) })).Draw(t, "name")
		clean := Clean(s)
		if !utf8.ValidString(clean) || strings.ContainsFunc(clean,
			func(r rune) bool { return r < 0x20 && r != '\t' || 0x7f <= r && r < 0xa0 }) {
			t.Fatalf("%q can do something to a terminal", clean)
		}
		if Clean(clean) != clean {
			t.Fatalf("%q is not clean yet", clean)
		}
		if Width(s) != runewidth.StringWidth(s) {
			t.Fatalf("%q is counted as %d columns, and takes %d", s, Width(s), runewidth.StringWidth(s))
		}
		most := rapid.IntRange(4, 40).Draw(t, "most")
		if cut := Cut(clean, most); Width(cut) > most {
			t.Fatalf("%q is wider than %d", cut, most)
		}
		if padded := Pad(clean, most); Width(padded) != max(most, Width(clean)) || !strings.HasPrefix(padded,
			clean) {
			t.Fatalf("%q is not %q filled up to %d", padded, clean, most)
		}
	})
}

func TestCutKeepsBothEnds(t *testing.T) {
	require.Equal(t, "gauge-S…04-03.csv", Cut("gauge-SLU_2031-04-03.csv", 17))
	require.Equal(t, "short", Cut("short", 17))
	require.Equal(t, "a\\x1b[31mb", Clean("a\x1b[31mb"))
	require.Equal(t, "bad\uFFFD", Clean("bad\xff"))
}
