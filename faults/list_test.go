package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// Each fault can be put into the code as it is now. (Whether its test notices it is found
// out by go run ./faults, which takes long.)
func TestEachFaultStandsInTheCode(t *testing.T) {
	for _, f := range faults {
		text, err := os.ReadFile(filepath.Join("..", f.File))
		require.NoError(t, err, f.What)
		require.Equal(t, 1, strings.Count(string(text), f.Old), "%s: %s holds %q so often, and must hold it once",
			f.What, f.File, f.Old)
		require.NotEqual(t, f.Old, f.New, f.What)
	}
}
