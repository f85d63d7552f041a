package house

import (
	"database/sql"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"sort"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	_ "modernc.org/sqlite" // the driver

	"stilltide/internal/core/job"
	"stilltide/internal/core/rule"
	"stilltide/internal/core/schema"
	"stilltide/internal/ledger"
	"stilltide/internal/standing"
)

// The glossary, docs/names.md, has every word that users meet: keys and values of the
// rules file, placeholders, words of expressions, states, fields of JSON, columns of the
// ledger, metrics. A word that is not in it fails, and so does a row that nothing uses.
func TestNames(t *testing.T) {
	text, err := os.ReadFile("../../docs/names.md")
	require.NoError(t, err)
	listed := map[string][]string{}
	for _, m := range regexp.MustCompile("(?m)^\\| `([^`]+)` \\| ([^|]+) \\| ([^|]+) "+
		"\\|$").FindAllStringSubmatch(string(text), -1) {
		require.NotContains(t, listed, m[1], "%s has two rows", m[1])
		require.NotEmpty(t, strings.TrimSpace(m[2]), "%s has no meaning", m[1])
		listed[m[1]] = strings.Split(strings.TrimSpace(m[3]), ", ")
	}
	used := usedNames(t)
	for word, places := range used {
		sort.Strings(listed[word])
		require.Equal(t, places, listed[word],
			"docs/names.md says another thing of %q: one word has one row, with all places where it appears", word)
	}
	for word := range listed {
		require.Contains(t, used, word, "docs/names.md has a word that nothing uses")
	}
}

// usedNames returns every word with the places where it appears, in order.
func usedNames(t *testing.T) map[string][]string {
	used := map[string][]string{}
	add := func(place string, words ...string) {
		for _, w := range words {
			if !slices.Contains(used[w], place) {
				used[w] = append(used[w], place)
			}
		}
	}
	ofRules := schema.Rules()
	schemaNames(ofRules, add)
	add("placeholder", append(rule.BuiltIn(), "files", "list", "list0")...)
	add("expression", rule.ExpressionWords()...)
	for _, s := range job.States {
		add("job state", string(s))
	}
	for _, s := range standing.States {
		add("rule state", string(s.State))
	}
	columns(t, add)
	sources(t, add)
	for w := range used {
		sort.Strings(used[w])
	}
	return used
}

// schemaNames adds the keys and the fixed values of the rules file.
func schemaNames(v any, add func(string, ...string)) {
	switch v := v.(type) {
	case map[string]any:
		if properties, ok := v["properties"].(map[string]any); ok {
			for key := range properties {
				add("rules key", key)
			}
		}
		if values, ok := v["enum"].([]any); ok {
			for _, one := range values {
				if s, ok := one.(string); ok {
					add("rules value", s)
				}
			}
		}
		for key, inner := range v {
			if key != "enum" && key != "not" {
				schemaNames(inner, add)
			}
		}
	case []any:
		for _, inner := range v {
			schemaNames(inner, add)
		}
	}
}

// columns adds the columns of the ledger's tables and views.
func columns(t *testing.T, add func(string, ...string)) {
	folder := t.TempDir()
	l, err := ledger.Open(folder, func(error) {})
	require.NoError(t, err)
	require.NoError(t, l.Close())
	db, err := sql.Open("sqlite", filepath.Join(folder, ledger.FileName))
	require.NoError(t, err)
	defer db.Close()
	rows, err := db.Query(`SELECT c.name FROM pragma_table_list AS t JOIN pragma_table_xinfo(t.name) AS c WHERE t.schema = 'main' AND t.name NOT LIKE 'sqlite%'`)
	require.NoError(t, err)
	defer rows.Close()
	for rows.Next() {
		var name string
		require.NoError(t, rows.Scan(&name))
		add("column", name)
	}
	require.NoError(t, rows.Err())
}

// sources adds what is only written in the code: the fields of JSON and the metrics.
func sources(t *testing.T, add func(string, ...string)) {
	field := regexp.MustCompile("json:\"([a-z_0-9]+)[,\"]")
	metric := regexp.MustCompile(`"(stilltide_[a-z_]+)"`)
	for _, glob := range []string{"../cli/*.go", "../cli/*/*.go", "../standing/*.go", "../jsonlines/*.go",
		"../watcher/watcher.go", "../core/plan/conditions.go", "../core/notice/notice.go", "../metrics/metrics.go"} {
		files, err := filepath.Glob(glob)
		require.NoError(t, err)
		for _, path := range files {
			if strings.HasSuffix(path, "_test.go") {
				continue
			}
			text, err := os.ReadFile(path)
			require.NoError(t, err)
			for _, m := range field.FindAllStringSubmatch(string(text), -1) {
				add("JSON", m[1])
			}
			for _, m := range metric.FindAllStringSubmatch(string(text), -1) {
				add("metric", m[1])
			}
		}
	}
}
