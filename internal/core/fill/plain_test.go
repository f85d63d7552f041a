package fill

import (
	"encoding/json"
	"strings"
	"testing"
	"unicode"

	"github.com/stretchr/testify/require"
)

// everyUnsafe is a text with all of Unicode's control and format characters.
func everyUnsafe() string {
	var b strings.Builder
	for r := rune(0); r <= unicode.MaxRune; r++ {
		if unicode.In(r, unicode.Cc, unicode.Cf, unicode.Zl, unicode.Zp) {
			b.WriteString("a" + string(r) + "b")
		}
	}
	return b.String()
}

func TestNothingUnsafeIsLeft(t *testing.T) {
	for _, text := range []string{PlainLine(everyUnsafe()), Quote([]string{everyUnsafe()})} {
		for _, r := range text {
			require.False(t, Unsafe(r) && r != '\t', "U+%04X", r)
		}
	}
	require.Equal(t, "a\nb\tc", Plain("a\nb\tc"))
	require.Equal(t, `a\nb`+"\tc", PlainLine("a\nb\tc"))
	require.Equal(t, `\x1b[31mred\u202e é`, PlainLine("\x1b[31mred\u202e é"))
	require.Equal(t, "\uFFFD", Plain("\xff"))
}

func TestPlainJSONSaysTheSame(t *testing.T) {
	text, err := json.Marshal(everyUnsafe())
	require.NoError(t, err)
	safe := PlainJSON(text)
	for _, r := range string(safe) {
		require.False(t, Unsafe(r), "U+%04X", r)
	}
	var back string
	require.NoError(t, json.Unmarshal(safe, &back))
	require.Equal(t, everyUnsafe(), back)
}
