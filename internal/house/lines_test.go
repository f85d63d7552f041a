package house

import (
	"go/ast"
	"go/parser"
	"go/scanner"
	"go/token"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/require"
)

// What a reader can hold in the head.
const (
	maxColumns  = 120 // of a line, with tabs of four
	maxFunction = 60  // lines of a function
	maxFile     = 500 // lines of a file; tests may be longer
	maxRoom     = 2550
	maxFields   = 40 // of a struct
)

// No line, function and file is longer than a reader can follow. Struct tags and raw texts
// cannot be broken, and count for nothing.
func TestLinesAreShort(t *testing.T) {
	out, err := exec.Command("git", "-C", "../..", "ls-files", "*.go").Output()
	if err != nil {
		t.Skip("not under version control: " + err.Error())
	}
	for _, name := range strings.Fields(string(out)) {
		src, err := os.ReadFile("../../" + name)
		if os.IsNotExist(err) {
			continue // removed, and not recorded yet
		}
		require.NoError(t, err)
		set := token.NewFileSet()
		file, err := parser.ParseFile(set, name, src, parser.SkipObjectResolution)
		require.NoError(t, err)
		test := strings.HasSuffix(name, "_test.go")
		if !test {
			require.LessOrEqual(t, set.File(file.Pos()).LineCount(), maxFile, "lines of %s", name)
		}
		for _, d := range file.Decls {
			if f, is := d.(*ast.FuncDecl); is && !test {
				long := set.Position(f.End()).Line - set.Position(f.Pos()).Line + 1
				require.LessOrEqual(t, long, maxFunction, "lines of %s in %s", f.Name.Name, name)
			}
		}
		raw := rawLines(src)
		for i, line := range strings.Split(string(src), "\n") {
			columns := utf8.RuneCountInString(line) + 3*strings.Count(line, "\t")
			if columns > maxColumns && !raw[i+1] {
				t.Errorf("%s:%d has %d columns", name, i+1, columns)
			}
		}
	}
}

// No room is larger than a reader can follow, and no struct has too many fields. Tests count for
// nothing.
func TestRoomsAreSmall(t *testing.T) {
	rooms := map[string]int{}
	err := filepath.WalkDir("..", func(path string, _ fs.DirEntry, err error) error {
		if err != nil || filepath.Ext(path) != ".go" || strings.HasSuffix(path, "_test.go") {
			return err
		}
		set := token.NewFileSet()
		file, err := parser.ParseFile(set, path, nil, parser.SkipObjectResolution)
		if err != nil {
			return err
		}
		rooms[filepath.Dir(path)] += set.File(file.Pos()).LineCount()
		ast.Inspect(file, func(n ast.Node) bool {
			if s, is := n.(*ast.StructType); is {
				require.LessOrEqual(t, s.Fields.NumFields(), maxFields, "fields at %s", set.Position(s.Pos()))
			}
			return true
		})
		return nil
	})
	require.NoError(t, err)
	require.Greater(t, len(rooms), 50)
	for room, lines := range rooms {
		require.LessOrEqual(t, lines, maxRoom, "lines in %s", room)
	}
}

// rawLines are the lines on which a raw text or a struct tag stands.
func rawLines(src []byte) map[int]bool {
	set := token.NewFileSet()
	file := set.AddFile("", set.Base(), len(src))
	var s scanner.Scanner
	s.Init(file, src, nil, 0)
	raw := map[int]bool{}
	for {
		at, kind, text := s.Scan()
		if kind == token.EOF {
			return raw
		}
		if kind == token.STRING && text[0] == '`' {
			for i := range strings.Count(text, "\n") + 1 {
				raw[file.Line(at)+i] = true
			}
		}
	}
}
