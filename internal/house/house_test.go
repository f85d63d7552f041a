// Package house checks the project itself: that packages import only what
// docs/architecture.md allows, and that the pages made from code are current.
package house

import (
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// rooms in their order: a room imports only what stands above it.
var rooms = []string{"core", "watchfs", "look", "ledger", "place", "runner", "work", "advice", "ink", "service",
	"notify", "quick", "engine", "standing", "jsonlines", "manual", "control",
	"metrics", "report", "live", "standin", "demo", "cli"}

// pure are the packages outside the standard library that the core may use:
// they compute, and touch nothing.
var pure = []string{"github.com/goccy/go-yaml", "golang.org/x/text", "github.com/ncruces/go-strftime",
	"github.com/dustin/go-humanize", "cel.dev/cel-go", "github.com/robfig/cron"}

// impure are the packages of the standard library that the core may not use.
var impure = []string{"os", "os/exec", "net", "net/http", "database/sql", "io/ioutil", "syscall", "log", "log/slog"}

func TestImports(t *testing.T) {
	out, err := exec.Command("go", "list", "-f", `{{.ImportPath}}:{{join .Imports ","}}`, "stilltide/...").Output()
	require.NoError(t, err)
	place := map[string]int{}
	for i, r := range rooms {
		place[r] = i
	}
	for _, line := range strings.Split(strings.TrimSpace(string(out)), "\n") {
		pkg, imports, _ := strings.Cut(line, ":")
		from := room(pkg)
		if from == "" {
			continue
		}
		for _, imported := range strings.Split(imports, ",") {
			if to := room(imported); to != "" {
				require.LessOrEqual(t, place[to], place[from], "%s must not import %s", pkg, imported)
			}
			if from == "core" {
				checkPure(t, pkg, imported)
			}
		}
	}
}

func room(pkg string) string {
	rest, ok := strings.CutPrefix(pkg, "stilltide/internal/")
	if !ok || strings.HasPrefix(rest, "house") {
		return ""
	}
	name, _, _ := strings.Cut(rest, "/")
	return name
}

func checkPure(t *testing.T, pkg, imported string) {
	require.NotContains(t, impure, imported, "%s is core: values in, values out", pkg)
	if !strings.Contains(imported, ".") || strings.HasPrefix(imported, "stilltide/internal/core/") {
		return
	}
	for _, p := range pure {
		if strings.HasPrefix(imported, p) {
			return
		}
	}
	t.Errorf("%s is core and imports %s", pkg, imported)
}
