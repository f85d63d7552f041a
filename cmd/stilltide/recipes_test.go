package main

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/rogpeppe/go-internal/testscript"
	"github.com/stretchr/testify/require"
)

// TestRecipes runs every recipe of docs/recipes.md: the rules file as it
// stands there, driven by the script in the comment below it.
func TestRecipes(t *testing.T) {
	t.Parallel()
	page, err := os.ReadFile("../../docs/recipes.md")
	require.NoError(t, err)
	parts := strings.Split(string(page), "\n### ")[1:]
	require.Greater(t, len(parts), 20)
	recipe := regexp.MustCompile("(?s)\n```yaml\n(.*?)```\n<!-- try\n(.*?)-->")
	dir, rules := t.TempDir(), strings.Count(string(page), "```yaml")
	for i, part := range parts {
		title, _, _ := strings.Cut(part, "\n")
		m := recipe.FindStringSubmatch(part)
		if m == nil {
			require.NotContains(t, part, "```yaml", "%q has rules and no script that tries them", title)
			continue
		}
		rules--
		script, files, _ := strings.Cut(m[2], "\n-- ")
		if files != "" {
			files = "-- " + files
		}
		name := strings.Trim(regexp.MustCompile(`[^a-z]+`).ReplaceAllString(strings.ToLower(title), "_"), "_")
		text := fmt.Sprintf("%s\n-- stilltide.yaml --\n%s%s", script, m[1], files)
		require.NoError(t, os.WriteFile(filepath.Join(dir, fmt.Sprintf("%02d_%s.txtar", i, name)), []byte(text),
			0o666))
	}
	require.Zero(t, rules, "each rules file is tried once")
	testscript.Run(t, testscript.Params{Dir: dir, Setup: setupScript, Cmds: scriptCommands, Condition: condition})
}
