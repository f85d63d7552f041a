//go:build unix

package control

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"stilltide/internal/byhand"
	"stilltide/internal/core/turn"
	"stilltide/internal/watcher"
)

type quiet struct{}

func (quiet) Live() (watcher.Live, error)                                          { return watcher.Live{PID: 7}, nil }
func (quiet) Retry(id int64) byhand.Sent                                           { return byhand.Sent{ID: id} }
func (quiet) Cancel(id int64) byhand.Sent                                          { return byhand.Sent{ID: id} }
func (quiet) Undo(id int64) byhand.Sent                                            { return byhand.Sent{ID: id} }
func (quiet) Dismiss(id int64) byhand.Sent                                         { return byhand.Sent{ID: id} }
func (quiet) Sweep(context.Context, turn.Chosen, func([]turn.Outcome) error) error { return nil }
func (quiet) Pause([]string, bool, time.Time) error                                { return nil }
func (quiet) CatchUp() error                                                       { return nil }

// Where the state folder's path is too long for a socket, the socket lies in a folder that
// nobody else can have prepared.
func TestTheFallbackFolderIsTheUsersOwn(t *testing.T) {
	temp := t.TempDir()
	t.Setenv("XDG_RUNTIME_DIR", "")
	t.Setenv("TMPDIR", temp)
	state := "/" + strings.Repeat("long/", 40) + "state"
	folder := filepath.Dir(Path(state))
	require.Equal(t, temp, filepath.Dir(folder))

	s, err := Serve(state, quiet{})
	require.NoError(t, err)
	info, err := os.Stat(folder)
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o700), info.Mode().Perm())
	live, err := Dial(state).Live()
	require.NoError(t, err)
	require.Equal(t, 7, live.PID)
	s.Close()

	require.NoError(t, os.Chmod(folder, 0o777))
	_, err = Serve(state, quiet{})
	require.ErrorContains(t, err, "other users can write to")
	require.NoError(t, os.RemoveAll(folder))
	require.NoError(t, os.Symlink(temp, folder))
	_, err = Serve(state, quiet{})
	require.ErrorContains(t, err, "is not a folder of this user")
}
