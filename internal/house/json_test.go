package house

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"reflect"
	"strings"
	"testing"
	"time"

	"github.com/google/jsonschema-go/jsonschema"
	"github.com/stretchr/testify/require"

	"stilltide/internal/jsonlines"
)

// docs/json.md is made from the types of what is printed; go test ./internal/house -update
// writes it anew.
func TestJSON(t *testing.T) {
	const page = "../../docs/json.md"
	made := jsonPage(t)
	if *update {
		require.NoError(t, os.WriteFile(page, []byte(made), 0o666))
		return
	}
	text, err := os.ReadFile(page)
	require.NoError(t, err)
	require.Equal(t, made, string(text), "write it anew with: go test ./internal/house -run TestJSON -update")
}

// The schemas that stilltide schema --of prints are made from the same types.
func TestJSONSchemas(t *testing.T) {
	const folder = "../jsonlines/schemas/"
	var names []string
	for _, c := range jsonlines.Commands {
		names = append(names, c.SchemaFile())
		made := schemaOf(t, c)
		if *update {
			require.NoError(t, os.WriteFile(folder+c.SchemaFile(), made, 0o666))
			continue
		}
		text, err := os.ReadFile(folder + c.SchemaFile())
		require.NoError(t, err)
		require.Equal(t, string(made), string(text),
			"write it anew with: go test ./internal/house -run TestJSON -update")
	}
	there, err := os.ReadDir(folder)
	require.NoError(t, err)
	require.Len(t, there, len(names), "one file for each command that has --json")
}

// schemaOf is the JSON Schema of a line that a command prints.
func schemaOf(t *testing.T, c jsonlines.Command) []byte {
	s := &jsonschema.Schema{Schema: "https://json-schema.org/draft/2020-12/schema",
		Title: "A line of stilltide " + c.Name + " --json"}
	times := map[reflect.Type]*jsonschema.Schema{reflect.TypeFor[time.Time](): {Type: "string", Format: "date-time"}}
	for _, l := range c.Lines {
		one, err := jsonschema.ForType(l.Type, &jsonschema.ForOptions{TypeSchemas: times})
		require.NoError(t, err)
		one.Description = l.Means
		open(one)
		s.AnyOf = append(s.AnyOf, one)
	}
	var text bytes.Buffer
	e := json.NewEncoder(&text)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	require.NoError(t, e.Encode(s))
	return text.Bytes()
}

// open allows fields that are added later.
func open(s *jsonschema.Schema) {
	if s == nil {
		return
	}
	if s.Type == "object" && len(s.Properties) > 0 {
		s.AdditionalProperties = nil
	}
	for _, p := range s.Properties {
		open(p)
	}
	open(s.Items)
}

func jsonPage(t *testing.T) string {
	var b strings.Builder
	b.WriteString(`# JSON

Every command that prints data takes ` + "`--json`" + `: one object a line (JSON Lines), for programs. Fields may be
added, never changed. Times are RFC 3339, durations seconds, sizes bytes. A name that is not UTF-8 has U+FFFD
where its bytes are none. ` + "`stilltide schema --of COMMAND`" + ` prints the JSON Schema of a line.

The page is made from the types in the code; ` + "`go test ./internal/house -run TestJSON -update`" + ` writes it anew.
`)
	type table struct{ of reflect.Type }
	seen := map[reflect.Type]bool{}
	for _, c := range jsonlines.Commands {
		fmt.Fprintf(&b, "\n## stilltide %s --json\n\nIt prints %s.\n", c.Name, c.Means)
		var inner []table
		for _, l := range c.Lines {
			fmt.Fprintf(&b, "\n### %s: %s\n\n", l.Type.Name(), l.Means)
			if seen[l.Type] {
				b.WriteString("As above.\n")
				continue
			}
			seen[l.Type] = true
			for _, of := range fields(t, &b, l.Type) {
				inner = append(inner, table{of})
			}
		}
		for i := 0; i < len(inner); i++ {
			if of := inner[i].of; !seen[of] {
				seen[of] = true
				fmt.Fprintf(&b, "\n### %s\n\n", of.Name())
				for _, more := range fields(t, &b, of) {
					inner = append(inner, table{more})
				}
			}
		}
	}
	return b.String()
}

// fields writes the table of a type, and returns the types that stand in it.
func fields(t *testing.T, b *strings.Builder, of reflect.Type) (inner []reflect.Type) {
	b.WriteString("| field | is | means |\n|---|---|---|\n")
	for _, f := range reflect.VisibleFields(of) {
		tag, _, _ := strings.Cut(f.Tag.Get("json"), ",")
		if tag == "" {
			continue // unexported, or the type that it is made on
		}
		is, more := kindOf(f.Type)
		if strings.Contains(f.Tag.Get("json"), "omitempty") {
			is += ", may be left out"
		}
		doc := f.Tag.Get("jsonschema")
		require.NotEmpty(t, doc, "%s.%s says nothing of itself", of.Name(), f.Name)
		fmt.Fprintf(b, "| `%s` | %s | %s |\n", tag, is, doc)
		inner = append(inner, more...)
	}
	return inner
}

// kindOf says what a field is, in JSON's words.
func kindOf(f reflect.Type) (is string, inner []reflect.Type) {
	switch f.Kind() {
	case reflect.Pointer:
		is, inner = kindOf(f.Elem())
		return is + " or null", inner
	case reflect.Slice:
		is, inner = kindOf(f.Elem())
		return "array of " + is, inner
	case reflect.Map:
		is, inner = kindOf(f.Elem())
		return "object of " + is + " by name", inner
	case reflect.Bool:
		return "boolean", nil
	case reflect.String:
		return "string", nil
	case reflect.Struct:
		if f.PkgPath() == "time" {
			return "time", nil
		}
		return f.Name(), []reflect.Type{f}
	}
	return "number", nil
}
