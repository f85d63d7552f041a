//go:build linux

package place

import (
	"fmt"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"stilltide/internal/core/plan"
)

// A batch keeps the folder open that it takes from, however many others it opens meanwhile.
func TestABatchOfManyFolders(t *testing.T) {
	for name, sub := range map[string]string{"one source": "", "each its own": "%03d"} {
		dir := t.TempDir()
		batch := (&Placer{}).Batch()
		for i := range 3 * maxOpen {
			r := Request{Source: filepath.Join(dir, "in", fmt.Sprintf(sub+"f%d", i)), Root: filepath.Join(dir, "in")}
			if sub != "" {
				r.Source = filepath.Join(dir, "in", fmt.Sprintf(sub, i), "f")
			}
			r.Expect = write(t, r.Source, "one of many")
			r.To = plan.SpotOf(filepath.Join(dir, "out", fmt.Sprint(i), "f"))
			_, err := batch.Move(r)
			require.NoError(t, err, "%s, file %d", name, i)
			require.FileExists(t, r.To.Path())
		}
		batch.End()
		require.Empty(t, batch.open, name)
	}
}
