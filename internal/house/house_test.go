// Package house checks the project itself: that packages import only what
// docs/architecture.md allows, and that the pages made from code are current.
package house

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// rooms in their order: a room imports only what stands above it.
var rooms = []string{
	"core", "watchfs", "writers", "content", "look", "naming", "tables", "commits", "lock", "ledger", "sift",
	"archive", "held", "place", "scene", "runner", "work",
	"verbs", "placing", "byhand", "advice",
	"wire", "fleet", "lend",
	"recipes", "ink", "service", "notify", "telling", "quick", "watcher", "engine", "standing", "presence", "draft",
	"jsonlines",
	"manual", "control", "metrics", "report", "guide", "live", "standin", "demo",
	"cli/console", "cli/see", "cli/act", "cli/foresee", "cli/begin", "cli/atwork", "cli",
}

// pure are the packages outside the standard library that the core may use:
// they compute, and touch nothing.
var pure = []string{"github.com/goccy/go-yaml", "golang.org/x/text", "github.com/ncruces/go-strftime",
	"github.com/dustin/go-humanize", "cel.dev/cel-go", "github.com/robfig/cron"}

// impure are the packages of the standard library that the core may not use: they
// read the system, or change it. What they say comes in as values.
var impure = []string{"os", "os/exec", "os/signal", "os/user", "net", "net/http", "database/sql", "io/ioutil",
	"syscall",
	"log", "log/slog", "mime", "runtime", "runtime/debug", "unsafe", "embed"}

// impureNames are what the core may not use of the packages that it may.
var impureNames = map[string][]string{
	"time": {"Now", "Since", "Until", "Sleep", "After", "AfterFunc", "Tick", "NewTimer", "NewTicker",
		"LoadLocation"},
	"filepath": {"Abs", "EvalSymlinks", "Glob", "Walk", "WalkDir"},
	"rand":     {"Int", "IntN", "Float64", "Shuffle", "Perm", "Uint64"},
	"fmt":      {"Print", "Printf", "Println", "Scan", "Scanf", "Scanln"},
}

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
		require.Contains(t, place, from, "%s has no place among the rooms", pkg)
		for _, imported := range strings.Split(imports, ",") {
			if to := room(imported); to != "" {
				require.LessOrEqual(t, place[to], place[from], "%s must not import %s", pkg, imported)
			}
			require.False(t, pkg == "stilltide/internal/core/rule" && strings.Contains(imported, "yaml"),
				"%s is the model: only the notation knows YAML", pkg)
			if from == "core" {
				checkPure(t, pkg, imported)
			}
		}
	}
}

func room(pkg string) string {
	rest, ok := strings.CutPrefix(pkg, "stilltide/internal/")
	if !ok {
		return ""
	}
	name, _, _ := strings.Cut(rest, "/")
	if name == "cli" { // its groups of commands are rooms of their own
		return rest
	}
	if name == "house" || name == "laws" || name == "machine" { // tests alone
		return ""
	}
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

// The core asks nothing: the time, the zones and the disk come in as values.
func TestTheCoreAsksNothing(t *testing.T) {
	err := filepath.WalkDir("../core", func(path string, _ fs.DirEntry, err error) error {
		if filepath.Ext(path) != ".go" || strings.HasSuffix(path, "_test.go") {
			return err
		}
		set := token.NewFileSet()
		tree, err := parser.ParseFile(set, path, nil, 0)
		ast.Inspect(tree, func(n ast.Node) bool {
			if s, ok := n.(*ast.SelectorExpr); ok {
				if pkg, ok := s.X.(*ast.Ident); ok && pkg.Obj == nil {
					require.NotContains(t, impureNames[pkg.Name], s.Sel.Name, "%s", set.Position(s.Pos()))
				}
			}
			return true
		})
		return err
	})
	require.NoError(t, err)
}
