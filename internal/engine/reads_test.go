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
	"stilltide/internal/core/job"
	"stilltide/internal/core/notation"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/settle"
	"stilltide/internal/core/turn"
	"stilltide/internal/core/underway"
	"stilltide/internal/ledger"
	"stilltide/internal/watchfs"
	"stilltide/internal/work"
)

// reader is a flow whose reads are carried out, and answered, when the test says so.
type reader struct {
	*flow.Flow
	t      *testing.T
	dir    string
	store  *ledger.Stepped
	now    time.Time
	begun  []string // files whose attempts began and have not ended, by name
	reads  []turn.Read
	answer []turn.Answer
	ids    map[string]int64
}

// newReader has room for two jobs in the memory.
func newReader(t *testing.T, rules string) *reader {
	queued, together := underway.MaxQueued, underway.MaxTogether
	underway.MaxQueued, underway.MaxTogether = 2, 2
	t.Cleanup(func() { underway.MaxQueued, underway.MaxTogether = queued, together })
	dir := t.TempDir()
	parsed, diags := notation.Parse(filepath.Join(dir, "stilltide.yaml"), []byte("version: 1\nworkers: 1\nrules:\n"+
		rules))
	require.Empty(t, diags)
	require.NoError(t, os.Mkdir(filepath.Join(dir, "in"), 0o777))
	store := newStore(t)
	settled := func(path string) (file.Facts, error) {
		facts, err := watchfs.Stat(path)
		facts.Writers = file.None
		return facts, err
	}
	see := outside{&eyes{look: func(_ *watchfs.Looker, path string) (file.Facts, error) { return settled(path) }}, t}
	return &reader{Flow: flow.New(plan.NewSet(parsed), store, see, &work.InHand{}, rand.Float64), t: t, dir: dir,
		store: store,
		now:   time.Now().Add(time.Hour), ids: map[string]int64{}}
}

// drop has files come.
func (r *reader) drop(names ...string) {
	r.dropQuietly(names...)
	r.pass(time.Second)
}

// dropQuietly has files come that are not decided on yet.
func (r *reader) dropQuietly(names ...string) {
	for _, name := range names {
		path := filepath.Join(r.dir, "in", name)
		require.NoError(r.t, os.WriteFile(path, []byte(name), 0o666))
		r.Offer(path, false, settle.Closed, r.now)
	}
}

// pass lets time pass.
func (r *reader) pass(long time.Duration) {
	r.now = r.now.Add(long)
	r.Advance(r.now)
	r.reads = append(r.reads, r.Effects().Reads...)
	for _, a := range r.Effects().Starts {
		name := filepath.Base(a.Plan.File)
		r.begun, r.ids[name] = append(r.begun, name), a.Plan.ID
	}
	r.Took()
}

// read carries out what was asked for; answered brings what that found.
func (r *reader) read() {
	for _, one := range r.reads {
		r.answer = append(r.answer, one.Do(source{r.store, r.Rules(), func() {}}))
	}
	r.reads = nil
}

func (r *reader) answered() {
	for _, answer := range r.answer {
		answer(r.now)
	}
	r.answer = nil
	r.pass(time.Millisecond)
}

// end ends the attempt that began last, and well, and returns its file.
func (r *reader) end() string {
	require.Len(r.t, r.begun, 1)
	name := r.begun[0]
	r.begun = nil
	exit := 0
	r.AttemptEnded(turn.AttemptEnd{ID: r.ids[name], OK: true, Exit: &exit}, r.now)
	r.pass(time.Millisecond)
	return name
}

// rest ends attempts until none begins any more, and returns their files.
func (r *reader) rest() (names []string) {
	for range 50 {
		r.read()
		r.answered()
		if len(r.begun) > 0 {
			names = append(names, r.end())
		}
	}
	return names
}

const stays = "  - {name: work, watch: in, debounce: 0s, run: x}\n"

// What is read of the ledger takes its time; meanwhile files come, jobs end, and others are
// cancelled. Each job runs once, whatever was read before.
func TestTheQueueIsReadBesideTheFlow(t *testing.T) {
	r := newReader(t, stays)
	r.drop("a", "b", "c", "d", "e")
	require.Equal(t, "a", r.end())
	require.NotEmpty(t, r.reads, "the memory runs low of jobs")
	r.read()
	require.Equal(t, "b", r.end(), "it goes on with what it has")
	r.drop("f")
	r.answered()
	require.Equal(t, []string{"c", "d", "e", "f"}, r.rest())
	tally, err := r.store.Tally()
	require.NoError(t, err)
	require.Equal(t, 6, tally["work"][job.Processed])
}

// A job that comes when the last of the ledger have been read, and not taken up, is not forgotten.
func TestAJobThatComesWhileTheQueueIsReadIsTakenUp(t *testing.T) {
	r := newReader(t, stays)
	r.drop("a", "b", "c")
	r.end()
	r.read()
	r.answered() // c, and there may be more
	r.end()
	r.read() // nothing more
	r.drop("d")
	r.answered()
	require.Equal(t, []string{"c", "d"}, r.rest())
}

// A job that was cancelled while it was read does not run.
func TestAJobThatIsCancelledWhileTheQueueIsRead(t *testing.T) {
	r := newReader(t, stays)
	r.drop("a", "b", "c", "d")
	r.end()
	r.read()
	c := filepath.Join(r.dir, "in", "c")
	row, _, err := r.store.OpenJob(c)
	require.NoError(t, err)
	_, err = r.Cancel(row.ID, c, r.now)
	require.NoError(t, err)
	r.answered()
	require.Equal(t, []string{"b", "d"}, r.rest())
}

// What cannot be read is tried again after a moment, and not at once over and over.
func TestAQueueThatCannotBeReadIsReadAgain(t *testing.T) {
	r := newReader(t, stays)
	r.drop("a", "b", "c")
	r.end()
	require.NoError(t, r.store.Refuse(true))
	r.read()
	r.answered()
	require.Empty(t, r.reads)
	require.NoError(t, r.store.Refuse(false))
	r.pass(2 * time.Second)
	require.NotEmpty(t, r.reads)
	require.Equal(t, []string{"b", "c"}, r.rest())
}

// Held jobs whose time comes while others are read are taken from the first on.
func TestATimeThatComesWhileTheQueueIsRead(t *testing.T) {
	r := newReader(t, "  - {name: work, watch: in, debounce: 0s, run: x, schedule: \"* * * * *\"}\n")
	r.now = r.now.Truncate(time.Minute).Add(time.Second)
	r.drop("a", "b", "c")
	require.Empty(t, r.begun)
	r.TakeUp(job.Pauses{}, nil, []string{"work"}) // as after a start: all are looked through
	r.pass(time.Millisecond)
	r.read()
	r.answered() // a, which waits for its time
	r.read()     // b
	r.pass(time.Minute)
	r.answered()
	require.Equal(t, []string{"a", "b", "c"}, r.rest())
}

// setting writes the file on which all is handled again.
func (r *reader) setting(content string) {
	path := filepath.Join(r.dir, "in", "prices.txt")
	require.NoError(r.t, os.WriteFile(path, []byte(content), 0o666))
	r.Offer(path, false, settle.Closed, r.now)
	r.pass(time.Second)
}

const onPrices = "  - {name: work, watch: in, match: \"*.csv\", debounce: 0s, run: x, again_on: in/prices.txt}\n"

// A setting file that changes again while it is read is read once more, and what it changes is
// handled again once.
func TestASettingThatChangesWhileItIsRead(t *testing.T) {
	r := newReader(t, onPrices)
	r.setting("1")
	r.drop("a.csv")
	require.Equal(t, "a.csv", r.end())
	require.Empty(t, r.rest(), "a setting is only remembered when it is first seen")
	r.setting("22")
	r.read()
	r.setting("22") // its writer closes it once more
	require.Empty(t, r.reads, "it is being read")
	r.answered()
	require.Equal(t, []string{"a.csv"}, r.rest())
	r.setting("333")
	require.Equal(t, []string{"a.csv"}, r.rest())
}

// A setting file that is not answered holds up nothing but itself.
func TestASettingThatIsNotAnswered(t *testing.T) {
	r := newReader(t, onPrices)
	r.setting("1")
	require.NotEmpty(t, r.reads)
	lost := r.reads
	r.reads = nil
	require.False(t, r.Finished(), "it is waited for")
	folder := filepath.Join(r.dir, "in")
	r.WentAbsent(folder, true)
	require.Empty(t, r.reads)
	r.IsThere(folder)
	for _, one := range lost { // the answer comes too late to be one
		one.Do(source{r.store, r.Rules(), func() {}})(r.now)
	}
	_, known, err := r.store.Known("/again_on/work", filepath.Join(folder, "prices.txt"))
	require.NoError(t, err)
	require.False(t, known)
}

// A file of which a job tells already that it went is no other file's old name.
func TestARemovalThatIsToldIsNoRename(t *testing.T) {
	r := newReader(t, "  - {name: n, watch: in, debounce: 200ms, events: [added, renamed, removed], run: do}\n")
	r.drop("a")
	require.Equal(t, "a", r.end())
	a, b := filepath.Join(r.dir, "in", "a"), filepath.Join(r.dir, "in", "b")
	require.NoError(t, os.Rename(a, b))
	r.SetPaused([]string{"n"}, true, time.Time{})
	r.WentAway(a, false, r.now)
	r.pass(time.Second)
	r.WentAway(a, false, r.now) // the folder is looked through once more
	r.Offer(b, false, settle.Moved, r.now)
	r.pass(time.Second)
	require.NoError(t, r.store.Flush())
	jobs, err := r.store.Jobs(job.Filter{Oldest: true})
	require.NoError(t, err)
	require.Len(t, jobs, 3)
	require.Equal(t, []file.Event{file.Added, file.Removed, file.Added}, []file.Event{jobs[0].Event, jobs[1].Event,
		jobs[2].Event})
}
