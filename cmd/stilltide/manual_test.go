package main

import (
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

// The manual pages that the program writes are pages of which mandoc has nothing to say.
func TestManualPagesHaveNoErrors(t *testing.T) {
	t.Parallel()
	needs(t, "mandoc")
	folder := filepath.Join(t.TempDir(), "deep", "man")
	require.Contains(t, run(t, t.TempDir(), "man", folder), "pages are in "+folder)
	pages, err := filepath.Glob(folder + "/man*/*")
	require.NoError(t, err)
	require.Contains(t, pages, folder+"/man1/stilltide-jobs-show.1")
	require.Contains(t, pages, folder+"/man5/stilltide.yaml.5")
	out, _ := exec.Command("mandoc", append([]string{"-T", "lint"}, pages...)...).CombinedOutput()
	require.Empty(t, string(out))
	text, err := exec.Command("mandoc", "-T", "utf8", folder+"/man1/stilltide-sweep.1").Output()
	require.NoError(t, err)
	require.Contains(t, string(text), "--rule")
}
