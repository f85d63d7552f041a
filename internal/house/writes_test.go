package house

import (
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"stilltide/internal/core/job"
)

// A job's state changes in one place: nothing outside core/job assigns one to a record.
func TestAStateIsWrittenInOnePlace(t *testing.T) {
	var written []string
	require.NoError(t, filepath.WalkDir("..", func(path string, d os.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		if strings.HasPrefix(path, filepath.Join("..", "core", "job")) {
			return nil
		}
		set := token.NewFileSet()
		tree, err := parser.ParseFile(set, path, nil, 0)
		if err != nil {
			return err
		}
		ast.Inspect(tree, func(n ast.Node) bool {
			a, ok := n.(*ast.AssignStmt)
			for i := 0; ok && i < len(a.Lhs); i++ {
				if selected(a.Lhs[i], "State") && (ofRow(a.Lhs[i]) || len(a.Rhs) == len(a.Lhs) && aState(a.Rhs[i])) {
					written = append(written, set.Position(a.Pos()).String())
				}
			}
			return true
		})
		return nil
	}))
	require.Empty(t, written, "use Become")
}

func selected(e ast.Expr, name string) bool {
	s, ok := e.(*ast.SelectorExpr)
	return ok && s.Sel.Name == name
}

// ofRow reports whether a field is one of a job's record, by the names that those have.
func ofRow(e ast.Expr) bool {
	of := e.(*ast.SelectorExpr).X
	if id, ok := of.(*ast.Ident); ok {
		return id.Name == "row"
	}
	return selected(of, "row") || selected(of, "Row")
}

// aState reports whether a value is one of a job's states.
func aState(e ast.Expr) bool {
	s, ok := e.(*ast.SelectorExpr)
	if !ok {
		return false
	}
	of, ok := s.X.(*ast.Ident)
	return ok && of.Name == "job" && slices.Contains(job.States, job.State(strings.ToLower(s.Sel.Name)))
}
