package engine

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/core/settle"
	"stilltide/internal/core/turn"
	"stilltide/internal/look"
	"stilltide/internal/watchfs"
)

// outside are eyes that must not look into a file: the flow would wait for it.
type outside struct {
	*eyes
	t *testing.T
}

func (o outside) Complete(_ *plan.Set, r *rule.Rule, path string, _ *file.Facts) {
	o.t.Errorf("the flow looks into %s for %s", path, r.Name.S)
}

const byContent = "  - {name: texts, watch: in, match: \"*.x\", debounce: 0s, " +
	"where: 'media_type == \"text/plain\"', run: x}\n" +
	"  - {name: rest, watch: in, debounce: 0s, run: x}\n"

// What is inside a file is read beside the flow: meanwhile other files begin.
func TestAFileIsLookedIntoBesideTheFlow(t *testing.T) {
	r := newReader(t, byContent)
	r.drop("text.x")
	require.Empty(t, r.begun, "it is not known what it is")
	require.Len(t, r.reads, 1)
	require.False(t, r.Finished(), "it is waited for")
	require.False(t, r.Idle(turn.Chosen{}))
	require.False(t, r.Idle(turn.Chosen{Rules: []string{"texts"}}))
	require.True(t, r.Idle(turn.Chosen{Rules: []string{"others"}}))
	require.Equal(t, 1, r.Unsettled())
	r.drop("other")
	require.Equal(t, "other", r.end())
	r.read()
	r.answered()
	require.Equal(t, "text.x", r.end())
	require.Zero(t, r.Unsettled())
	require.True(t, r.Finished())
}

// What was read of a file that changes meanwhile is void: it is decided on as it is then.
func TestAFileThatChangesWhileItIsLookedInto(t *testing.T) {
	r := newReader(t, byContent)
	r.drop("text.x")
	r.read()
	path := filepath.Join(r.dir, "in", "text.x")
	require.NoError(t, os.WriteFile(path, []byte("%PDF-1.7\n"), 0o666))
	r.Offer(path, false, settle.Closed, r.now)
	r.answered()
	require.Empty(t, r.begun)
	require.Len(t, r.reads, 1, "it is looked into again")
	r.read()
	r.answered()
	row, ok, err := r.store.OpenJob(path)
	require.NoError(t, err)
	require.True(t, ok)
	require.Equal(t, "rest", row.Rule, "it is no text any more")
	require.Equal(t, []string{"text.x"}, r.rest(), "it runs once")
}

// A file that went, or whose folder does not answer, is not waited for any more.
func TestAFileThatGoesWhileItIsLookedInto(t *testing.T) {
	r := newReader(t, byContent)
	r.drop("a.x", "b.x")
	r.read()
	gone := filepath.Join(r.dir, "in", "a.x")
	require.NoError(t, os.Remove(gone))
	r.WentAway(gone, false, r.now)
	require.Equal(t, 1, r.Unsettled())
	r.WentAbsent(filepath.Join(r.dir, "in"), true)
	require.Zero(t, r.Unsettled())
	r.answered()
	require.Empty(t, r.begun)
	require.Empty(t, r.reads)
}

// A file whose writer comes back while it is looked into settles again before its job begins.
func TestAWriterThatComesBackWhileAFileIsLookedInto(t *testing.T) {
	r := newReader(t, byContent)
	r.drop("text.x")
	r.read()
	path := filepath.Join(r.dir, "in", "text.x")
	require.NoError(t, os.WriteFile(path, []byte("a longer text"), 0o666)) // of which no event has come yet
	r.answered()
	require.Empty(t, r.begun)
	require.Equal(t, []string{"text.x"}, r.rest())
	known, _, err := r.store.Known("texts", path)
	require.NoError(t, err)
	require.EqualValues(t, len("a longer text"), known.Facts.Size)
}

// A group does not end without a file that came in time, and that is still looked into.
func TestAGroupWaitsForWhatIsLookedInto(t *testing.T) {
	r := newReader(t, "  - {name: pair, watch: in, debounce: 0s, media_type: text/*, run: x, "+
		"group: {by: \"{stem}\", need: [\"*.txt\", \"*.csv\"], max_wait: 1m, overdue: fail}}\n")
	r.drop("1.txt")
	r.read()
	r.answered()
	require.Equal(t, 1, r.Gathering())
	r.drop("1.csv")
	r.read()
	r.pass(time.Hour)
	require.Equal(t, 1, r.Gathering(), "the other has come in time")
	_, more := r.Wake(r.now)
	require.False(t, more, "it waits for the answer, and not for a time")
	r.answered()
	require.Equal(t, []string{"1.csv"}, r.rest())
	require.Zero(t, r.Gathering())
}

// A file that has got another name is no other file, also where that is known only when it has been
// looked into.
func TestARenameIsKnownWhenTheFileWasLookedInto(t *testing.T) {
	r := newReader(t, "  - {name: texts, watch: in, debounce: 0s, events: [added, removed, renamed], "+
		"where: 'media_type == \"text/plain\"', run: x}\n")
	r.drop("old")
	require.Equal(t, []string{"old"}, r.rest())
	from, to := filepath.Join(r.dir, "in", "old"), filepath.Join(r.dir, "in", "new")
	require.NoError(t, os.Rename(from, to))
	r.WentAway(from, false, r.now)
	r.Offer(to, false, settle.Moved, r.now)
	r.pass(time.Second)
	_, more := r.Wake(r.now)
	require.False(t, more, "it waits for the answer, and not for a time")
	require.Equal(t, []string{"new"}, r.rest())
	jobs, err := r.store.Jobs(job.Filter{})
	require.NoError(t, err)
	require.Len(t, jobs, 2)
	for _, j := range jobs {
		require.NotEqual(t, file.Removed, j.Event)
		if filepath.Base(j.File) == "new" {
			require.Equal(t, file.Renamed, j.Event)
			require.Equal(t, from, j.OldFile)
		}
	}
}

// Files that were there are begun in their order, also where they are looked into.
func TestAnOrderWaitsForWhatIsInside(t *testing.T) {
	r := newReader(t,
		"  - {name: texts, watch: in, debounce: 0s, order: name, where: 'media_type == \"text/plain\"', run: x}\n")
	folder := filepath.Join(r.dir, "in")
	r.LookThrough(folder)
	r.ApplyRules()
	r.drop("b")
	r.read()
	r.drop("a")
	r.LookedThrough(folder)
	r.pass(time.Millisecond)
	r.answered() // b
	require.Empty(t, r.begun, "a is not known yet")
	r.drop("0")
	first := r.reads[0]
	r.reads = r.reads[1:]
	first.Do(source{r.store, r.Rules(), func() {}})(r.now) // a
	r.pass(time.Millisecond)
	require.Equal(t, "a", r.end(), "what has come since is not waited for")
}

// Many files of a folder are taken in the order in which they came, also where answers of others
// come first.
func TestFilesAreTakenInTheirOrderWhereTheyAreLookedInto(t *testing.T) {
	r := newReader(t, "  - {name: texts, watch: in, debounce: 0s, where: 'media_type == \"text/plain\"', run: x}\n")
	var names []string
	for i := range 300 {
		names = append(names, fmt.Sprintf("%03d", i))
	}
	r.drop(names[:200]...)
	r.read()
	r.drop(names[200:]...)
	for len(r.reads)+len(r.answer) > 0 {
		r.read()
		slices.Reverse(r.answer)
		r.answered()
	}
	require.Zero(t, r.Unsettled())
	require.NoError(t, r.store.Flush())
	jobs, err := r.store.OpenJobs("texts", job.States, 0, 400)
	require.NoError(t, err)
	var taken []string
	for _, j := range jobs {
		taken = append(taken, filepath.Base(j.File))
	}
	require.Equal(t, names, taken)
}

// The jobs of a long queue are looked into before they begin.
func TestTheFilesOfAQueueAreLookedInto(t *testing.T) {
	r := newReader(t, "  - {name: work, watch: in, debounce: 0s, run: \"x {media_type}\"}\n")
	r.drop("a", "b", "c", "d", "e")
	r.read()
	r.answered()
	require.Equal(t, "a", r.end())
	r.read() // of those that are in the ledger alone
	r.answered()
	require.Equal(t, "b", r.end())
	require.Equal(t, "c", r.end(), "it is known what it is")
	require.Equal(t, []string{"d", "e"}, r.rest())
}

// parked has a job of an earlier run be looked into before it begins.
func (r *reader) parked(name string) (path string) {
	path = filepath.Join(r.dir, "in", name)
	require.NoError(r.t, os.WriteFile(path, []byte(name), 0o666))
	facts, err := watchfs.Stat(path)
	require.NoError(r.t, err)
	r.Restore(job.Job{ID: 7, Rule: "work", File: path, Watch: filepath.Dir(path), State: job.Queued, Event: file.Added,
		Facts: facts, Taken: r.now, FileNow: path}, "", nil, r.now)
	r.pass(time.Second)
	r.pass(time.Second)
	require.Len(r.t, r.reads, 1)
	require.Empty(r.t, r.begun)
	r.read()
	return path
}

const saysKind = "  - {name: work, watch: in, debounce: 0s, run: \"x {media_type}\"}\n"

// A job whose file goes while it is looked into is over.
func TestAJobWhoseFileGoesWhileItIsLookedInto(t *testing.T) {
	r := newReader(t, saysKind)
	path := r.parked("a")
	require.NoError(t, os.Remove(path))
	r.WentAway(path, false, r.now)
	r.answered()
	require.Empty(t, r.rest())
	require.Zero(t, r.Open(), "it waits for nothing")
	tally, err := r.store.Tally()
	require.NoError(t, err)
	require.Equal(t, 1, tally["work"][job.Vanished])
}

// A job that is cancelled while its file is looked into does not come back.
func TestAJobThatIsCancelledWhileItIsLookedInto(t *testing.T) {
	r := newReader(t, saysKind)
	path := r.parked("a")
	_, err := r.Cancel(7, path, r.now)
	require.NoError(t, err)
	require.Zero(t, r.Unsettled(), "its file is not waited for")
	r.answered()
	require.Empty(t, r.rest())
	require.Zero(t, r.Open()+r.Unsettled())
	tally, err := r.store.Tally()
	require.NoError(t, err)
	require.Equal(t, 1, tally["work"][job.Cancelled])
}

// A job of an earlier run whose file lies on a share is looked into when it is to start.
func TestAJobOfAnEarlierRunIsLookedIntoOnAShare(t *testing.T) {
	s := newSlowShare(t, "  - {name: work, watch: in, debounce: 0s, run: \"x {media_type}\"}\n")
	path := s.path("a.pdf")
	require.NoError(t, os.WriteFile(path, []byte("%PDF-1.7\n"), 0o666))
	facts := look.Whole(s.Rules(), path).Facts
	facts.Inside = nil // the ledger does not keep it
	s.Restore(job.Job{ID: 7, Rule: "work", File: path, Watch: filepath.Dir(path), State: job.Queued, Event: file.Added,
		Facts: facts, Taken: s.now, FileNow: path}, job.Queued, nil, s.now)
	s.pass(time.Hour)
	require.Empty(t, s.Effects().Starts, "it is not known what it is")
	require.Equal(t, []string{path}, s.pass(time.Millisecond))
	s.answer(path)
	s.pass(time.Millisecond)
	require.Len(t, s.Effects().Starts, 1)
	require.Equal(t, "application/pdf", s.Effects().Starts[0].Plan.Facts.Says().Kind)
}
