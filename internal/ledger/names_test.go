package ledger

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/machine"
)

// What a reader shows of rules that have new names is what is there once they have them: a law, over
// generated ledgers, for everything that a reader can be asked.
func TestNewNamesAreShownAsTheyWillBe(t *testing.T) {
	renamed := map[string]string{"a": "b", "c": "d e", "gone": "f"}
	for seed := range uint64(machine.Worlds(8)) {
		dir := t.TempDir()
		fillWithRules(t, dir, seed)
		shown := everything(t, dir, renamed)
		l := open(t, dir)
		require.NoError(t, l.UseNames(renamed))
		require.NoError(t, l.UseNames(renamed), "twice is once")
		requireSame(t, shown, everythingOf(t, l), seed)
		require.NoError(t, l.Close())
		requireSame(t, shown, everything(t, dir, nil), seed)
	}
}

func requireSame(t *testing.T, shown, there map[string]string, seed uint64) {
	for question, answer := range shown {
		require.Equal(t, there[question], answer, "seed %d: %s", seed, question)
	}
}

// fillWithRules records something of three rules, of each kind that has a rule.
func fillWithRules(t *testing.T, dir string, seed uint64) {
	r := rand.New(rand.NewPCG(seed, 11))
	l := open(t, dir)
	for n := range 40 {
		name := []string{"a", "c", "stays"}[r.IntN(3)]
		path := fmt.Sprintf("/in/%d", r.IntN(30))
		facts := file.Facts{Exists: true, Regular: true, Size: int64(n), Mod: file.Time(int64(n))}
		switch r.IntN(6) {
		case 0:
			l.Remember(job.Known{Rule: name, File: path, Job: int64(n), Facts: facts})
		case 1:
			l.RememberContent(name, fmt.Sprint("hash", r.IntN(5)), int64(n))
		case 2:
			l.RecordWatched(name, fmt.Sprint("/in", r.IntN(3)))
		case 3:
			l.RecordPause(name, r.IntN(2) == 0, time.Now().Add(time.Hour))
		default:
			j := job.Job{ID: l.NextID(), Rule: name, File: path, FileNow: path, Watch: "/in", Facts: facts,
				State: job.Queued, Event: file.Added, Taken: when}
			l.Record(j, "")
			if r.IntN(2) == 0 {
				j.State, j.Ended = job.Processed, when.Add(time.Duration(n)*time.Second)
				l.Record(j, job.Queued)
				facts.Dir = r.IntN(3) == 0
				l.RecordPlacement(job.Placement{ID: l.NextPlacement(), Job: j.ID, Kind: job.Put, Source: path,
					Facts: facts, Target: fmt.Sprint("/out/", r.IntN(9)), Chained: true, State: job.Done, After: facts})
			}
		}
	}
	require.NoError(t, l.Close())
}

func everything(t *testing.T, dir string, renamed map[string]string) map[string]string {
	l, err := Read(dir)
	require.NoError(t, err)
	defer func() { require.NoError(t, l.Close()) }()
	require.NoError(t, l.UseNames(renamed))
	return everythingOf(t, l)
}

// everythingOf asks a ledger all that has to do with rules.
func everythingOf(t *testing.T, l *Ledger) map[string]string {
	all := map[string]string{}
	ask := func(rule, what string, answer ...any) { all[rule+" "+what] = fmt.Sprintf("%+v", answer) }
	for _, rule := range []string{"b", "d e", "f", "stays"} {
		jobs, err := l.Jobs(job.Filter{Rule: rule})
		ask(rule, "jobs", jobs, err)
		queued, err := l.OpenJobs(rule, []job.State{job.Queued}, 0, 0)
		ask(rule, "open", queued, err)
		last, is, err := l.LastEnded(rule)
		ask(rule, "last", last, is, err)
		results, err := l.Results(rule, "/in")
		ask(rule, "results", results, err)
		files, next, err := l.KnownFiles(rule, "/in", "")
		ask(rule, "files", files, next, err)
		among, err := l.KnownAmong(rule, "/in/0", "/in/9", 1)
		ask(rule, "among", among, err)
		below, whole := l.KnownBelow(rule, "/in")
		ask(rule, "below", below, whole, l.KnownCount(rule))
		for n := range 30 {
			k, is, err := l.Known(rule, fmt.Sprint("/in/", n))
			ask(rule, fmt.Sprint("known ", n), k, is, err)
		}
		for n := range 5 {
			is, err := l.KnowsContent(rule, fmt.Sprint("hash", n), 1000)
			ask(rule, fmt.Sprint("content ", n), is, err)
		}
		for n := range 9 {
			p, is, err := l.PlacedBy(rule, fmt.Sprint("/out/", n))
			ask(rule, fmt.Sprint("placed ", n), p, is, err)
		}
	}
	for n := range 40 {
		facts := file.Facts{Size: int64(n), Mod: file.Time(int64(n))}
		origin, chain, is, err := l.Origin(fmt.Sprint("/out/", n%9), facts)
		ask("", fmt.Sprint("origin ", n), origin, chain, is, err)
		origin, chain, is, err = l.FolderOrigin(fmt.Sprint("/out/", n%9))
		ask("", fmt.Sprint("folder origin ", n), origin, chain, is, err)
	}
	below, ends, err := l.PlacedBelow("/out")
	slices.Sort(below)
	ask("", "placed below", below, ends, err)
	tally, err := l.Tally()
	ask("", "tally", tally, err)
	watched, err := l.Watched()
	ask("", "watched", watched, err)
	paused, err := l.Paused()
	accepted, acceptedErr := l.Accepted()
	ask("", "paused", paused, accepted, err, acceptedErr)
	recent, err := l.Recent(9)
	ask("", "recent", recent, err)
	ended := []job.Job{}
	require.NoError(t, l.EachEnded(time.Time{}, func(j job.Job) { ended = append(ended, j) }))
	ask("", "ended", ended)
	return all
}

// What is there under both names is joined: counts are added, the last word on a pause holds, and
// what the new name has stays.
func TestWhatBothNamesHaveIsJoined(t *testing.T) {
	dir := t.TempDir()
	l := open(t, dir)
	for n, name := range []string{"old", "old", "new"} {
		l.Record(job.Job{ID: l.NextID(), Rule: name, File: fmt.Sprint("/in/", n), State: job.Queued,
			Event: file.Added, Taken: when}, "")
		l.Remember(job.Known{Rule: name, File: "/in/both", Job: int64(n + 1)})
	}
	l.Remember(job.Known{Rule: "old", File: "/in/one", Job: 1})
	l.RecordPause("new", false, time.Time{})
	l.RecordPause("old", true, time.Time{})
	require.NoError(t, l.UseNames(map[string]string{"old": "new"}))
	for range 2 {
		tally, err := l.Tally()
		require.NoError(t, err)
		require.Equal(t, map[string]map[job.State]int{"new": {job.Queued: 3}}, tally)
		paused, err := l.Paused()
		require.NoError(t, err)
		require.Contains(t, paused, "new")
		both, _, err := l.Known("new", "/in/both")
		require.NoError(t, err)
		require.EqualValues(t, 3, both.Job)
		_, is, err := l.Known("new", "/in/one")
		require.NoError(t, err)
		require.True(t, is)
		require.NoError(t, l.Close())
		l = open(t, dir)
	}
	require.NoError(t, l.Close())
}
