package naming

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestNumberOfIsTheOppositeOfNumbered(t *testing.T) {
	for _, name := range []string{"a", "a.txt", ".hidden", "a-2", "a-2.txt", "a.tar.gz", "a.failed.txt", "-",
		"a-.x"} {
		for _, n := range []int{2, 3, 10, 12345} {
			wanted, got, ok := numberOf(Numbered(name, n))
			require.True(t, ok, name)
			require.Equal(t, name, wanted)
			require.Equal(t, n, got)
		}
	}
	for _, name := range []string{"a", "a-1", "a-01.txt", "a-x.txt", "a--2-.txt", "a-0"} {
		_, _, ok := numberOf(name)
		require.False(t, ok, name)
	}
}
