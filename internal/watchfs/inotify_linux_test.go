package watchfs

import (
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// That a file was made and that its writer closed it is one change, wherever
// nothing else happened to that name in between.
func TestMadeAndClosedIsOneChange(t *testing.T) {
	n := &source{paths: map[int32][]string{1: {"/in"}}}
	var got []change
	for _, e := range []struct {
		mask uint32
		name string
	}{
		{unix.IN_CREATE, "a"}, {unix.IN_CREATE, "b"}, {unix.IN_CLOSE_WRITE, "a"}, {unix.IN_CLOSE_WRITE, "b"},
		// closed under a name that it no longer has
		{unix.IN_CREATE, "c"}, {unix.IN_MOVED_FROM, "c"}, {unix.IN_CLOSE_WRITE, "c"},
		{unix.IN_CLOSE_WRITE, "a"}, // and written once more
		{unix.IN_CREATE, "d"},      // still being written
	} {
		got = n.append(got, 1, e.mask, []byte(e.name))
	}
	var said []string
	for _, c := range got {
		said = append(said, c.path+map[what]string{nameCreated: " made", writerClosed: " closed",
			nameRemoved: " gone"}[c.what])
	}
	require.Equal(t, []string{"/in/a closed", "/in/b closed", "/in/c made", "/in/c gone", "/in/c closed",
		"/in/a closed", "/in/d made"}, said)
}
