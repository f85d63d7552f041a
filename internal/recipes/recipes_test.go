package recipes

import (
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"stilltide/internal/core/notation"
	"stilltide/internal/core/rule"
	_ "stilltide/internal/verbs" // the verbs
)

func parse(t *testing.T, text string) *rule.File {
	t.Helper()
	f, diags := notation.ParseAll("/office/stilltide.yaml", []byte(text), rule.Machine{Home: "/home/ada", CPUs: 2,
		Zones: time.LoadLocation, Load: func(glob string) ([]rule.Source, error) {
			if !strings.Contains(glob, "*") {
				return nil, os.ErrNotExist
			}
			return []rule.Source{{Path: "/office/rules/more.yaml",
				Text: []byte("rules: [{name: more, watch: x}]\n")}}, nil
		}})
	require.False(t, diags.Failed(), "%v\n%s", diags, text)
	return f
}

func TestEachRecipeIsAWholeRulesFile(t *testing.T) {
	seen := map[string]bool{}
	for _, r := range All() {
		require.False(t, seen[r.Name], r.Name)
		seen[r.Name] = true
		require.NotEmpty(t, r.Need)
		require.NotEmpty(t, parse(t, r.File()).All(), r.Name)
		for line := range strings.SplitSeq(r.comment(), "\n") {
			require.LessOrEqual(t, len(line), columns+2)
		}
	}
	require.Greater(t, len(seen), 25)
	_, ok := Named("no-such")
	require.False(t, ok)
}

// Any two recipes make one file, with all rules of both as each has them by itself, or it is
// said which word both have.
func TestTwoRecipesMakeOneFile(t *testing.T) {
	all := All()
	for i, a := range all {
		for _, b := range all[i+1:] {
			text, err := Join([]Recipe{a, b})
			if err != nil {
				said := strings.Contains(err.Error(), a.Name) || strings.Contains(err.Error(), b.Name)
				require.True(t, said, err)
				continue
			}
			joined := parse(t, text)
			for _, one := range []Recipe{a, b} {
				for _, want := range parse(t, one.File()).All() {
					got := byName(joined, want.Name.S)
					require.NotNil(t, got, "%s is lost from\n%s", want.Name.S, text)
					require.Equal(t, want.Folders, got.Folders, text)
					require.Equal(t, want.Debounce.Duration, got.Debounce.Duration, text)
					require.Equal(t, want.Failed == nil, got.Failed == nil, text)
				}
			}
		}
	}
}

func byName(f *rule.File, name string) *rule.Rule {
	for _, r := range f.All() {
		if r.Name.S == name {
			return r
		}
	}
	return nil
}
