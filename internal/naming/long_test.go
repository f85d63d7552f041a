package naming

import (
	"path/filepath"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"stilltide/internal/core/plan"
)

// longName is a name that has no or little room for more.
var longName = rapid.Custom(func(t *rapid.T) string {
	letters := rapid.SampledFrom([]string{"x", "ü", "語", "𝄞", "."}).Draw(t, "letters")
	ext := rapid.SampledFrom([]string{"", ".csv", ".tar.gz", "." + strings.Repeat("e", 200),
		plan.NoteEnding}).Draw(t, "ext")
	stem := max(rapid.IntRange(180, plan.MaxName).Draw(t, "length")-len(ext)-1, 1)
	return "a" + strings.Repeat(letters, stem/len(letters)) + ext
})

func TestALongNameIsCut(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		name := longName.Draw(t, "name")
		n := rapid.IntRange(2, 1_234_567).Draw(t, "n")
		numbered := Numbered(name, n)
		require.LessOrEqual(t, len(numbered), plan.MaxName)
		require.True(t, utf8.ValidString(numbered))
		require.NotEqual(t, numbered, Numbered(name, n+1))
		require.LessOrEqual(t, len(Fitting(name, 10)), plan.MaxName-10-longestNumber)
		if ext := filepath.Ext(name); len(ext) < 20 {
			require.Equal(t, ext, filepath.Ext(numbered))
			require.Equal(t, ext, filepath.Ext(Fitting(name, 10)))
		}
		if len(name) <= plan.MaxName-longestNumber {
			wanted, got, ok := numberOf(numbered)
			require.True(t, ok)
			require.Equal(t, name, wanted)
			require.Equal(t, n, got)
		}
	})
}

func TestTheNoteOfALongName(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		name := longName.Draw(t, "name")
		note := filepath.Base(NoteOf("/failed/" + name))
		require.LessOrEqual(t, len(note), plan.MaxName)
		require.True(t, utf8.ValidString(note))
		require.True(t, strings.HasSuffix(note, plan.NoteEnding))
		other := strings.TrimSuffix(name, filepath.Ext(name)) + "2"
		require.NotEqual(t, note, filepath.Base(NoteOf("/failed/"+other)))
	})
}
