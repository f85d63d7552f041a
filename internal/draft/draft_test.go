package draft

import (
	"fmt"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestPropose(t *testing.T) {
	require.Equal(t, []string{"gauge-NOR_*.csv", "*.csv", "*.txt"}, Propose([]string{"gauge-NOR_2031-04-02.csv",
		"gauge-NOR_2031-04-03.csv", "slip.txt", ".hidden"}))
	require.Empty(t, Propose(nil))
	require.Contains(t, Propose([]string{"a[1].csv", "a[2].csv"}), `a\[*].csv`)
}

func TestInsert(t *testing.T) {
	r := Rule{Name: "new", Watch: "in", Match: []string{"*.csv"}, Run: "sort {file}", Processed: "done"}
	entry := "  - name: new\n    watch: in\n    match: \"*.csv\"\n    run: \"sort {file}\"\n    processed: done\n"
	for name, tt := range map[string]struct {
		text   string
		before int
		want   string
	}{
		"nothing":  {"", 0, "version: 1\nrules:\n" + entry},
		"no rules": {"version: 1 # one\n", 0, "version: 1 # one\nrules:\n" + entry},
		"empty":    {"version: 1\nrules: []\n", 0, "version: 1\nrules:\n" + entry},
		"last": {"rules:\n  - {name: a, watch: b}\n# the end", 0, "rules:\n  - {name: a, watch: b}\n\n" + entry +
			"# the end\n"},
		"amid": {"rules:\n  - name: a\n    run: |\n      x\n\n      y\nworkers: 2\n", 0,
			"rules:\n  - name: a\n    run: |\n      x\n\n      y\n\n" + entry + "workers: 2\n"},
		"no indent": {"rules:\n- name: a\n  watch: b\nvars: {}\n", 0, "rules:\n- name: a\n  watch: b\n\n" +
			strings.ReplaceAll(strings.ReplaceAll(entry, "    ", "  "), "  - ", "- ") + "vars: {}\n"},
		"before": {"rules:\n  # of a\n  - name: a\n\n  # of b\n  # too\n  - name: b\n", 7,
			"rules:\n  # of a\n  - name: a\n\n" + entry + "\n  # of b\n  # too\n  - name: b\n"},
	} {
		got, err := Insert(tt.text, r, tt.before)
		require.NoError(t, err, name)
		require.Equal(t, tt.want, got, name)
	}
	_, err := Insert("rules: [{name: a}]\n", r, 0)
	require.ErrorIs(t, err, ErrPlace)
}

// What begins as a key of YAML may is a text.
func TestAQuestionIsReadBack(t *testing.T) {
	for _, text := range []string{"? \"", "?", "?x", "? a", "- b", "~", "null", "yes", "1"} {
		var back []struct{ Name, Run string }
		entry := Rule{Name: "a", Watch: "in", Run: text}.Entry(2)
		require.NoError(t, yaml.Unmarshal([]byte(entry), &back), entry)
		require.Equal(t, text, back[0].Run)
	}
}

// Whatever is written, YAML reads it back as it was meant.
func TestEntryIsReadBack(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		text := rapid.StringMatching(`[ -~äß入]{1,20}`)
		r := Rule{Name: text.Draw(t, "name"), Watch: text.Draw(t, "watch"), Run: text.Draw(t, "run"),
			Match: rapid.SliceOfN(text, 0, 3).Draw(t, "match")}
		var back []struct {
			Name, Watch, Run string
			Match            any
		}
		require.NoError(t, yaml.Unmarshal([]byte(r.Entry(2)), &back), r.Entry(2))
		require.Len(t, back, 1)
		require.Equal(t, []string{r.Name, r.Watch, r.Run}, []string{back[0].Name, back[0].Watch, back[0].Run})
		if len(r.Match) > 0 {
			require.Equal(t, strings.Trim(fmt.Sprint(r.Match), "[]"), strings.Trim(fmt.Sprint(back[0].Match), "[]"))
		}
	})
}
