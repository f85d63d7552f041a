package house

import (
	"flag"
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"stilltide/internal/core/schema"
	_ "stilltide/internal/verbs" // what steps do
)

var update = flag.Bool("update", false, "write the tables of docs/rules.md anew")

// The tables of the reference are made from the model. This test holds the
// page against it; go test ./internal/house -update writes it anew.
func TestReference(t *testing.T) {
	const page = "../../docs/rules.md"
	text, err := os.ReadFile(page)
	require.NoError(t, err)
	made := string(text)
	for name, table := range schema.Reference() {
		begin, end := fmt.Sprintf("<!-- made from the model: %s -->\n", name), "<!-- end -->"
		head, rest, ok := strings.Cut(made, begin)
		require.True(t, ok, "docs/rules.md has no place for the table %s", name)
		_, tail, ok := strings.Cut(rest, end)
		require.True(t, ok)
		made = head + begin + table + end + tail
	}
	if *update {
		require.NoError(t, os.WriteFile(page, []byte(made), 0o666))
		return
	}
	require.Equal(t, made, string(text), "write it anew with: go test ./internal/house -run TestReference -update")
}
