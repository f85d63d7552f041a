//go:build linux

package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"unicode"

	"github.com/stretchr/testify/require"
)

// unsafePieces are every control and format character of Unicode, in pieces that fit into a name.
func unsafePieces() (pieces []string) {
	var piece strings.Builder
	for r := rune(1); r <= unicode.MaxRune; r++ {
		if !unicode.In(r, unicode.Cc, unicode.Cf, unicode.Zl, unicode.Zp) {
			continue
		}
		if piece.WriteString("x" + string(r)); piece.Len() > 150 {
			pieces = append(pieces, piece.String())
			piece.Reset()
		}
	}
	return append(pieces, piece.String())
}

// Names and output of commands may hold anything; nothing that the program says for people,
// or in JSON, holds a character that a terminal obeys or that turns text round.
func TestNothingUnsafeIsShown(t *testing.T) {
	t.Parallel()
	program, err := built()
	require.NoError(t, err)
	dir := t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(dir, "in"), 0o755))
	for i, piece := range unsafePieces() {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "in", fmt.Sprintf("%d%s.txt", i, piece)),
			[]byte(piece+"\n"), 0o644))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "in", fmt.Sprintf("%d%s.csv", i, piece)), []byte(piece),
			0o644))
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "stilltide.yaml"), []byte(`version: 1
defaults: {debounce: 0s, retry: 0}
rules:
  - {name: talks, watch: in, match: "*.txt", script: 'cat "$1" >&2; exit 3', failed: failed}
  - {name: moves, watch: in, match: "*.csv", processed: out}
`), 0o644))
	safe := func(text, what string) {
		for _, r := range text {
			bad := unicode.In(r, unicode.Cc, unicode.Cf, unicode.Zl, unicode.Zp) && r != '\n' && r != '\t' ||
				r == unicode.ReplacementChar
			require.False(t, bad, "U+%04X in %s: %q", r, what, text)
		}
	}
	for _, args := range []string{"check", "preview", "preview --json", "sweep", "jobs", "jobs --json",
		"jobs show 1", "jobs show 2", "jobs show 1 --json",
		"status", "status --json", "report", "report --json", "why in", "undo 2", "retry 1", "sweep --json"} {
		c := exec.Command(program, strings.Fields(args)...)
		c.Dir = dir
		said, _ := c.CombinedOutput() // sweep and status exit with 1 when jobs failed
		require.NotEmpty(t, said, args)
		safe(string(said), args)
	}
	notes, err := filepath.Glob(filepath.Join(dir, "failed", "*.failed.txt"))
	require.NoError(t, err)
	require.NotEmpty(t, notes)
	for _, note := range notes {
		text, err := os.ReadFile(note)
		require.NoError(t, err)
		safe(string(text), "a failure note")
	}
	for _, of := range []string{"failed", "out"} {
		files, err := os.ReadDir(filepath.Join(dir, of))
		require.NoError(t, err)
		c := exec.Command(program, "why", filepath.Join(of, files[0].Name()))
		c.Dir = dir
		said, _ := c.CombinedOutput()
		safe(string(said), "why")
	}
}
