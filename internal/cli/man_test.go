package cli

import (
	"flag"
	"io"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/spf13/cobra/doc"
	"github.com/stretchr/testify/require"
)

// released is the date on the pages: that of the version.
var released = time.Date(2026, 11, 26, 0, 0, 0, 0, time.UTC)

var writeMan = flag.Bool("write-man", false, "make the manual pages anew")

// The manual pages that the program has are the ones that its commands make.
func TestManPagesSayWhatTheCommandsDo(t *testing.T) {
	made := t.TempDir()
	root := (&app{out: io.Discard, err: io.Discard}).root()
	root.InitDefaultCompletionCmd()
	root.DisableAutoGenTag = true // the same commands make the same pages
	head := &doc.GenManHeader{Title: "STILLTIDE", Section: "1", Source: "Still Tide " + Version,
		Manual: "Still Tide", Date: &released}
	require.NoError(t, doc.GenManTree(root, head, made))
	want := texts(t, made)
	if *writeMan {
		require.NoError(t, os.RemoveAll("man"))
		require.NoError(t, os.CopyFS("man", os.DirFS(made)))
	}
	require.Equal(t, want, texts(t, "man"), "make them anew: go test ./internal/cli -write-man")

	written := filepath.Join(t.TempDir(), "deep", "man1")
	require.Zero(t, Main([]string{"man", written}, nil, io.Discard, io.Discard))
	if !*writeMan { // the program has the old ones still
		require.Equal(t, want, texts(t, written))
	}
}

func texts(t *testing.T, folder string) map[string]string {
	t.Helper()
	entries, err := os.ReadDir(folder)
	require.NoError(t, err)
	all := map[string]string{}
	for _, e := range entries {
		text, err := os.ReadFile(filepath.Join(folder, e.Name()))
		require.NoError(t, err)
		all[e.Name()] = string(text)
	}
	return all
}
