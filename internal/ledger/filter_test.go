package ledger

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"stilltide/internal/core/job"
	"stilltide/internal/machine"
	"stilltide/internal/tables"
)

// Whatever is asked of whatever history, the indexes answer as one would who reads all jobs: a
// law, over generated worlds.
func TestFiltersChooseAsTheyAreMeant(t *testing.T) {
	for seed := range uint64(machine.Worlds(5)) {
		r := rand.New(rand.NewPCG(seed, 5))
		l := open(t, t.TempDir())
		all := history(l, r, 150)
		if r.IntN(2) == 0 {
			require.NoError(t, l.Flush())
		}
		found := 0
		for range 100 {
			f := someFilter(r)
			got, err := l.Jobs(f)
			require.NoError(t, err)
			require.Equal(t, chosenBy(f, all), ids(got), "seed %d: %+v", seed, f)
			found += len(got)
			if len(f.Paths) > 0 {
				is, err := l.Handled(f.Paths)
				require.NoError(t, err)
				require.Equal(t, len(chosenBy(job.Filter{Paths: f.Paths}, all)) > 0, is, "seed %d: %v", seed, f.Paths)
			}
		}
		require.Greater(t, found, 50)
		require.NoError(t, l.Close())
	}
}

// history records jobs in all states, whose files are where they were taken or elsewhere.
func history(l *Ledger, r *rand.Rand, n int) (all []job.Job) {
	for i := range n {
		taken := when.Add(time.Duration(i) * time.Minute)
		j := job.Job{ID: l.NextID(), Rule: []string{"r", "s", "often"}[min(r.IntN(9), 2)],
			File: somePath(r), Watch: "/in", State: job.States[r.IntN(len(job.States))], Event: "added", Taken: taken,
			Attempts: 1}
		switch j.FileNow = j.File; r.IntN(3) {
		case 0:
			j.FileNow = somePath(r)
		case 1:
			j.FileNow = ""
		}
		if j.State.Final() {
			j.Ended = taken.Add(time.Duration(r.IntN(100)) * time.Minute)
		}
		l.Record(j, "")
		if dismissed := j; j.State == job.Failed && r.IntN(2) == 0 {
			l.RecordDismissed(dismissed)
			j.Reason = "dismissed"
		}
		all = append(all, j)
	}
	return all
}

func somePath(r *rand.Rand) string {
	return fmt.Sprintf("/%s/gauge-%d.csv", []string{"in", "done", "in/deep"}[r.IntN(3)], r.IntN(40))
}

func someFilter(r *rand.Rand) (f job.Filter) {
	one := func() bool { return r.IntN(4) == 0 }
	if one() {
		f.Rule = []string{"r", "s", "often", "never"}[r.IntN(4)]
	}
	if one() {
		for range 1 + r.IntN(3) {
			f.States = append(f.States, job.States[r.IntN(len(job.States))])
		}
	}
	if one() {
		f.States, f.Undismissed = []job.State{job.Failed}, r.IntN(2) == 0
	}
	switch r.IntN(6) {
	case 0:
		f.File = []string{"gauge-1", "deep/", "nothing", somePath(r)}[r.IntN(4)]
	case 1:
		f.Paths = []string{somePath(r), somePath(r)}
	}
	if one() {
		f.Since = when.Add(time.Duration(r.IntN(500)) * time.Minute)
	}
	if one() {
		f.After = int64(r.IntN(300))
	}
	f.Oldest, f.Shown = one(), one()
	f.Limit = []int{0, 0, 1, 7}[r.IntN(4)]
	return f
}

// chosenBy is what a filter means, job by job.
func chosenBy(f job.Filter, all []job.Job) (chosen []int64) {
	at := func(j job.Job, path string) bool { return j.File == path || j.FileNow == path }
	for _, j := range all {
		switch whole := strings.HasPrefix(f.File, "/"); {
		case f.Rule != "" && j.Rule != f.Rule,
			len(f.States) > 0 && !slices.Contains(f.States, j.State),
			whole && !at(j, f.File),
			!whole && !strings.Contains(j.File, f.File),
			len(f.Paths) > 0 && !slices.ContainsFunc(f.Paths, func(p string) bool { return at(j, p) }),
			j.Taken.Before(f.Since) && j.Ended.Before(f.Since),
			j.ID <= f.After,
			f.Undismissed && j.Reason == "dismissed":
			continue
		}
		chosen = append(chosen, j.ID)
	}
	if !f.Oldest {
		slices.Reverse(chosen)
	}
	if f.Limit > 0 {
		chosen = chosen[:min(f.Limit, len(chosen))]
	}
	return chosen
}

func ids(jobs []job.Job) (list []int64) {
	for _, j := range jobs {
		list = append(list, j.ID)
	}
	return list
}

// However long the history is, what people ask most reads none of it but the answer.
func TestQuestionsAreAnsweredByIndexes(t *testing.T) {
	l := open(t, t.TempDir())
	defer l.Close()
	history(l, rand.New(rand.NewPCG(1, 1)), 50)
	require.NoError(t, l.Flush())
	for _, f := range []job.Filter{
		{File: "/in/gauge-1.csv"}, {Paths: []string{"/in/a", "/done/b"}}, {Rule: "r"}, {Since: when.Add(time.Hour)},
		{States: []job.State{job.Failed}, Undismissed: true}, {States: []job.State{job.Queued, job.Held}, Shown: true},
	} {
		c, err := l.conditions(f)
		require.NoError(t, err)
		requireIndexed(t, l, "SELECT "+tables.JobColumns+" FROM job WHERE "+strings.Join(c.where, " AND ")+
			" ORDER BY id DESC", c.args...)
	}
	requireIndexed(t, l, endedBefore, 1, 500)
}

// requireIndexed asks how a query is carried out: not by going over all jobs.
func requireIndexed(t *testing.T, l *Ledger, query string, args ...any) {
	rows, err := l.db.Query("EXPLAIN QUERY PLAN "+query, args...)
	require.NoError(t, err)
	defer rows.Close()
	for rows.Next() {
		var id, parent, unused int
		var step string
		require.NoError(t, rows.Scan(&id, &parent, &unused, &step))
		require.NotRegexp(t, `^SCAN job$`, step, query)
	}
	require.NoError(t, rows.Err())
}
