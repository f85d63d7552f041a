package schema

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"
	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/require"

	"stilltide/internal/core/notation"
	"stilltide/internal/core/rule"
)

// validator compiles our schema with a validator that is not ours.
func validator(t *testing.T) *jsonschema.Schema {
	t.Helper()
	text, err := json.Marshal(Rules())
	require.NoError(t, err)
	doc, err := jsonschema.UnmarshalJSON(strings.NewReader(string(text)))
	require.NoError(t, err)
	c := jsonschema.NewCompiler()
	c.DefaultDraft(jsonschema.Draft2020)
	require.NoError(t, c.AddResource("rules.json", doc))
	s, err := c.Compile("rules.json")
	require.NoError(t, err)
	return s
}

func valid(t *testing.T, s *jsonschema.Schema, text string) error {
	t.Helper()
	asJSON, err := yaml.YAMLToJSON([]byte(text))
	require.NoError(t, err)
	doc, err := jsonschema.UnmarshalJSON(strings.NewReader(string(asJSON)))
	require.NoError(t, err)
	return s.Validate(doc)
}

// Every rules file in the project passes the schema, as it passes the parser.
func TestSchemaFitsEveryRulesFile(t *testing.T) {
	s := validator(t)
	seen := 0
	check := func(name, text string) {
		path := filepath.Join(t.TempDir(), rule.FileName)
		if _, diags := notation.Parse(path, []byte(text)); diags.Failed() {
			return // a script's example of errors
		}
		seen++
		require.NoError(t, valid(t, s, text), name)
	}
	for _, name := range []string{"../../cli/begin/init.yaml", "../../demo/world/stilltide.yaml"} {
		text, err := os.ReadFile(name)
		require.NoError(t, err)
		check(name, string(text))
	}
	scripts, err := filepath.Glob("../../../cmd/stilltide/testdata/script/*.txtar")
	require.NoError(t, err)
	for _, name := range scripts {
		text, err := os.ReadFile(name)
		require.NoError(t, err)
		for _, part := range strings.Split(string(text), "\n-- ")[1:] {
			file, body, _ := strings.Cut(part, " --\n")
			if strings.HasSuffix(file, ".yaml") {
				check(name+" "+file, body)
			}
		}
	}
	pages, err := filepath.Glob("../../../docs/*.md")
	require.NoError(t, err)
	for _, name := range append(pages, "../../../README.md") {
		text, err := os.ReadFile(name)
		require.NoError(t, err)
		for _, part := range strings.Split(string(text), "```yaml\n")[1:] {
			body, _, _ := strings.Cut(part, "```")
			check(name, body)
		}
	}
	require.Greater(t, seen, 100)
}

func TestSchemaRefusesMistakes(t *testing.T) {
	s := validator(t)
	for _, text := range []string{
		"version: 1\nworkes: 3\n",
		"version: 1\nrules: [{nam: a}]\n",
		"version: 1\nrules: [{name: a, watch: b, debounce: soon}]\n",
		"version: 1\nrules: [{name: a, watch: b, take: everything}]\n",
		"version: 1\nrules: [{name: a, watch: b, retry: -1}]\n",
		"version: 1\nqueues: {a: {rate: often}}\n",
	} {
		require.Error(t, valid(t, s, text), text)
	}
}

// What the schema names, the decoder knows, and describes.
func TestSchemaDescribesEveryKey(t *testing.T) {
	rules := Rules()["$defs"].(map[string]any)["Rule"].(map[string]any)["properties"].(map[string]any)
	require.Greater(t, len(rules), 30)
	for key, s := range rules {
		require.NotEmpty(t, s.(map[string]any)["description"], key)
	}
}
