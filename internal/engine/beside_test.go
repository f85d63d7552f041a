package engine

import (
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"stilltide/internal/core/file"
	"stilltide/internal/core/flow"
	"stilltide/internal/core/notation"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/turn"
	"stilltide/internal/look"
	"stilltide/internal/watchfs"
	"stilltide/internal/work"
)

// slowShare is a flow whose folder lies on a file system that may not answer: what the flow
// itself asks of what is there is not answered in time, what is looked at beside it is.
type slowShare struct {
	*flow.Flow
	t   *testing.T
	dir string
	now time.Time
}

func newSlowShare(t *testing.T, rules string) *slowShare {
	dir := t.TempDir()
	f, diags := notation.Parse(filepath.Join(dir, "stilltide.yaml"), []byte("version: 1\nworkers: 1\nrules:\n"+rules))
	require.Empty(t, diags)
	asked := func(_ *watchfs.Looker, path string) (file.Facts, error) {
		if _, err := os.Lstat(path); err != nil {
			return file.Facts{}, nil // that is answered at once
		}
		return file.Facts{}, plan.NoAnswer{Point: dir}
	}
	see := &eyes{look: asked, unsure: func(string) bool { return true }}
	s := &slowShare{Flow: flow.New(plan.NewSet(f), newStore(t), see, &work.InHand{}, rand.Float64), t: t, dir: dir,
		now: time.Now()}
	require.NoError(t, os.Mkdir(filepath.Join(dir, "in"), 0o777))
	return s
}

func (s *slowShare) path(name string) string { return filepath.Join(s.dir, "in", name) }

func (s *slowShare) found(name string) {
	require.NoError(s.t, os.WriteFile(s.path(name), nil, 0o666))
	bring(s.Flow, watchfs.Event{Kind: watchfs.Found, Path: s.path(name)}, s.now)
}

// pass lets time pass, and returns what is to be looked at beside the flow then.
func (s *slowShare) pass(long time.Duration) (paths []string) {
	s.now = s.now.Add(long)
	s.Advance(s.now)
	paths, s.Effects().Looks = s.Effects().Looks, nil
	return paths
}

// answer answers such a look with what is there.
func (s *slowShare) answer(path string) {
	res := look.Whole(s.Rules(), path)
	if res.Facts.Writers == file.Unknown {
		res.Facts.Writers = file.None
	}
	s.Answered(path, res, s.now)
}

// A look beside the flow is asked once, and again if something happened meanwhile.
func TestALookBesideTheFlowIsAskedAgainWhenItIsOld(t *testing.T) {
	s := newSlowShare(t, "  - {name: move, watch: in, debounce: 0s, processed: done}\n")
	s.found("a")
	require.Equal(t, []string{s.path("a")}, s.pass(time.Hour))
	require.Empty(t, s.pass(time.Hour), "it is under way")
	bring(s.Flow, watchfs.Event{Kind: watchfs.Closed, Path: s.path("a")}, s.now)
	require.Empty(t, s.pass(time.Hour))
	s.answer(s.path("a"))
	require.Empty(t, s.Effects().Places, "that answer is older than the event")
	require.Equal(t, []string{s.path("a")}, s.pass(time.Millisecond))
	s.answer(s.path("a"))
	s.pass(time.Millisecond)
	require.Len(t, s.Effects().Places, 1)
}

// What was there before the rule came is left alone also where that is known only later.
func TestWhatIsLeftAloneIsSoAlsoOnASlowShare(t *testing.T) {
	s := newSlowShare(t, "  - {name: move, watch: in, existing: leave, debounce: 0s, processed: done}\n")
	s.LeaveAlone(filepath.Join(s.dir, "in"), "move")
	s.found("before")
	require.Equal(t, []string{s.path("before")}, s.pass(time.Hour))
	require.Equal(t, []string{"move"}, s.Left(filepath.Join(s.dir, "in"))) // the folder has been looked through
	s.answer(s.path("before"))
	require.Empty(t, s.pass(time.Hour))
	require.Empty(t, s.Effects().Places)
	s.found("since")
	require.Equal(t, []string{s.path("since")}, s.pass(time.Hour))
	s.answer(s.path("since"))
	s.pass(time.Millisecond)
	require.Len(t, s.Effects().Places, 1)
}

// A folder that does not answer counts as absent: what waits there is found again when it
// answers, and a job that runs there gives its worker back.
func TestASilentFolderHoldsNoWorker(t *testing.T) {
	s := newSlowShare(t, "  - {name: far, watch: in, match: far*, debounce: 0s, run: x}\n"+
		"  - {name: near, watch: near, debounce: 0s, run: x}\n")
	s.found("far1")
	s.pass(time.Hour)
	s.answer(s.path("far1"))
	s.found("far2")
	s.pass(time.Millisecond)
	require.Len(t, s.Effects().Starts, 1)
	folder := filepath.Join(s.dir, "in")
	bring(s.Flow, watchfs.Event{Kind: watchfs.Absent, Path: folder, Dir: true, Err: watchfs.ErrSilent}, s.now)
	require.Zero(t, s.Unsettled())
	near := filepath.Join(s.dir, "near", "a")
	require.NoError(t, os.Mkdir(filepath.Dir(near), 0o777))
	require.NoError(t, os.WriteFile(near, nil, 0o666))
	bring(s.Flow, watchfs.Event{Kind: watchfs.Found, Path: near}, s.now)
	require.Equal(t, []string{near}, s.pass(time.Hour))
	s.answer(near)
	s.pass(time.Millisecond)
	require.Len(t, s.Effects().Starts, 2, "the worker is free")
}

// A file that has got another name on a share is no other file, though it is looked at only later.
func TestARenameIsKnownOnASlowShare(t *testing.T) {
	s := newSlowShare(t, "  - {name: work, watch: in, debounce: 0s, events: [added, removed, renamed], run: x}\n")
	s.found("old")
	s.pass(time.Hour)
	s.answer(s.path("old"))
	s.pass(time.Millisecond)
	exit := 0
	s.AttemptEnded(turn.AttemptEnd{ID: s.Effects().Starts[0].Plan.ID, OK: true, Exit: &exit}, s.now)
	s.Took()
	require.NoError(t, os.Rename(s.path("old"), s.path("new")))
	bring(s.Flow, watchfs.Event{Kind: watchfs.Removed, Path: s.path("old")}, s.now)
	bring(s.Flow, watchfs.Event{Kind: watchfs.Found, Path: s.path("new")}, s.now)
	require.Equal(t, []string{s.path("new")}, s.pass(time.Hour))
	s.answer(s.path("new"))
	s.pass(time.Millisecond)
	require.Len(t, s.Effects().Starts, 1)
	p := s.Effects().Starts[0].Plan
	require.Equal(t, file.Renamed, p.Event)
	require.Equal(t, s.path("old"), p.OldFile)
}
