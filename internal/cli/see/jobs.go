package see

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"stilltide/internal/cli/console"
	"stilltide/internal/core/fill"
	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/jsonlines"
	"stilltide/internal/ledger"
	"stilltide/internal/lock"
	"stilltide/internal/standing"
	"stilltide/internal/watcher"
)

// JobFilter are the flags of `jobs`.
type JobFilter struct {
	Rule, File, Since string
	states            []string
	limit             int
}

func (a *app) jobsCommand() *cobra.Command {
	var f JobFilter
	c := &cobra.Command{
		Use: "jobs", Short: "List the jobs, newest first", Long: "List the jobs, newest first.\n\n" + OfFileLong,
		RunE: func(*cobra.Command, []string) error { return a.jobs(f) },
	}
	c.Flags().StringVar(&f.Rule, "rule", "", "only jobs of this `RULE`")
	c.Flags().StringSliceVar(&f.states, "state", nil, "only jobs in this `STATE`, or in several")
	c.Flags().StringVar(&f.File, "file", "", "only jobs "+OfFile)
	c.Flags().StringVar(&f.Since, "since", "", "only jobs of the last `TIME`, such as 2h or 7d")
	c.Flags().IntVar(&f.limit, "limit", 50, "at most `N` jobs; 0 for all")
	show := &cobra.Command{
		Use: "show ID", Short: "Everything about one job", Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error { return a.showJob(args[0]) },
	}
	follow := false
	log := &cobra.Command{
		Use: "log ID", Short: "What a job's commands printed", Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			if follow {
				return a.followLog(args[0])
			}
			return a.logJob(args[0])
		},
	}
	log.Flags().BoolVar(&follow, "follow", false, "go on printing until the job is over")
	c.AddCommand(a.JSONFlag(show), log)
	return a.JSONFlag(c)
}

func (a *app) jobs(filter JobFilter) error {
	f, l, err := a.LedgerFor()
	if err != nil {
		return err
	}
	if l != nil {
		defer l.Close()
	}
	q, err := filter.Query(f, l)
	if err != nil {
		return err
	}
	if filter.Rule != "" && !console.KnowsRule(f, filter.Rule) {
		return a.NoRule(f, filter.Rule)
	}
	var list []job.Job
	if l != nil {
		if list, err = l.Jobs(q); err == nil {
			err = errors.Join(l.NowIn(list), underWay(f, l, a.Running(f), list))
		}
		if err != nil {
			return err
		}
		list = slices.DeleteFunc(list, func(j job.Job) bool { return !filter.wants(j.State) })
	}
	if a.JSON {
		for _, j := range list {
			if err := a.PrintJSON(jsonlines.JobOf(j)); err != nil {
				return err
			}
		}
		return nil
	}
	if len(list) == 0 {
		fmt.Fprintln(a.Err, "No matching jobs. A job begins when a rule takes a file: stilltide watch or sweep "+
			"does that.")
		return nil
	}
	a.jobTable(f, list)
	if filter.limit > 0 && len(list) == filter.limit {
		fmt.Fprintf(a.Err, "The newest %d; --limit 0 lists all.\n", filter.limit)
	}
	return nil
}

// underWay brings jobs that are not over up to date: what runs has its time so far,
// and without a watcher nothing runs; what is queued for a rule that rests is held.
func underWay(f *rule.File, l *ledger.Ledger, w *watcher.Live, list []job.Job) error {
	now := time.Now()
	notRunning(f, list)
	rests, err := standing.Resting(console.AskedOf(f, l, w, now))
	for i := range list {
		switch j := &list[i]; {
		case j.State == job.Queued && (rests[""] || rests[j.Rule]):
			j.Become(job.Held)
		case j.State == job.Running && j.Last != nil:
			j.Ran += max(now.Sub(j.Last.Started), 0)
		}
	}
	return err
}

// notRunning says of jobs that were under way when the watcher was ended by force that
// they wait: without a watcher nothing runs.
func notRunning(f *rule.File, list []job.Job) {
	if lock.InUse(f.StateFolder()) {
		return
	}
	for i := range list {
		if list[i].State == job.Running {
			list[i].Become(job.Queued)
		}
	}
}

// Query is the filter as the ledger, nil if there is none yet, is asked.
func (f JobFilter) Query(rules *rule.File, l *ledger.Ledger) (job.Filter, error) {
	q := job.Filter{Rule: f.Rule, File: f.File, Limit: f.limit, Shown: true}
	for _, s := range f.states {
		known := make([]string, len(job.States))
		ok := false
		for i, st := range job.States {
			known[i] = string(st)
			ok = ok || string(st) == s
		}
		if !ok {
			return q, console.Usage("there is no state %q%s; the states are %s", s, console.DidYouMean(s, known),
				strings.Join(known, ", "))
		}
		q.States = append(q.States, job.State(s))
	}
	if slices.ContainsFunc(q.States, changeable) { // which of these it is, underWay says
		q.States = append(q.States, job.Queued, job.Held, job.Running)
	}
	if f.Since != "" {
		d, err := rule.ParseDuration(f.Since)
		if err != nil {
			return q, console.Usage("--since: %v; write a number with its unit, such as 2h or 7d", err)
		}
		q.Since = time.Now().Add(-d)
	}
	if f.File == "" || filepath.IsAbs(f.File) || l == nil {
		return q, nil
	}
	paths := meantBy(f.File, rules)
	is, err := l.Handled(paths)
	if is {
		q.File, q.Paths = "", paths
	}
	return q, err
}

// OfFile explains --file, and ofFileLong where its paths begin.
const (
	OfFile     = "of this file, or else those whose path holds this `TEXT`"
	OfFileLong = "--file takes a file's path from here, from the folder of the rules file or from a watched\n" +
		"folder. If no job had that file, it takes the jobs whose path holds the text."
)

// maxMeant bounds the paths that a name may mean.
const maxMeant = 10_000

// meantBy lists the paths that a name may mean: here, beside the rules file, and in the watched
// folders.
func meantBy(name string, f *rule.File) []string {
	paths := []string{console.At(f, name), filepath.Join(f.Base, name)}
	for _, r := range f.All() {
		for _, folder := range r.Folders {
			paths = append(paths, filepath.Join(folder, name))
		}
	}
	slices.Sort(paths)
	paths = slices.Compact(paths)
	return paths[:min(len(paths), maxMeant)]
}

// changeable reports whether a job may be in another state than the ledger has.
func changeable(s job.State) bool {
	return s == job.Queued || s == job.Held || s == job.Running
}

func (f JobFilter) wants(s job.State) bool {
	return len(f.states) == 0 || slices.Contains(f.states, string(s))
}

func (a *app) jobTable(f *rule.File, list []job.Job) {
	now := time.Now()
	var rows [][]console.Cell
	head := []string{"JOB", "TIME", "RULE", "FILE", "STATE", "RAN", "NOW IN"}
	several := slices.ContainsFunc(list, func(j job.Job) bool { return j.Attempts > 1 })
	if several {
		head = slices.Insert(head, 5, "ATTEMPTS")
	}
	for _, j := range list {
		row := []console.Cell{
			{Text: strconv.FormatInt(j.ID, 10), Right: true},
			{Text: plan.Clock(console.EndOf(j), now)},
			{Text: j.Rule},
			{Text: console.JobName(j), Name: true},
			{Text: string(j.State), Whole: true, Paint: func(t string) string { return a.Style.State(j.State, t) }},
			{Text: plan.Span(j.Ran), Right: true},
			{Text: console.WhereNow(f, j)},
		}
		if several {
			row = slices.Insert(row, 5, console.Cell{Text: strconv.Itoa(j.Attempts), Right: true})
		}
		rows = append(rows, row)
	}
	a.Table(head, rows)
}

// oneJob finds the job that an argument names.
func (a *app) oneJob(arg string) (*rule.File, *ledger.Ledger, job.Job, error) {
	id, err := console.JobNumber(arg)
	if err != nil {
		return nil, nil, job.Job{}, err
	}
	f, l, err := a.LedgerFor()
	if err != nil {
		return nil, nil, job.Job{}, err
	}
	missing := console.Usage("there is no job %d in %s; stilltide jobs lists them", id, a.Shown(f.StateFolder()))
	if l == nil {
		return nil, nil, job.Job{}, missing
	}
	list, err := l.Jobs(job.Filter{ID: id, Shown: true})
	if err == nil {
		err = errors.Join(l.NowIn(list), underWay(f, l, a.Running(f), list))
	}
	if err == nil && len(list) == 0 {
		err = missing
	}
	if err != nil {
		l.Close()
		return nil, nil, job.Job{}, err
	}
	return f, l, list[0], nil
}

func (a *app) logJob(arg string) error {
	f, l, j, err := a.oneJob(arg)
	if err != nil {
		return err
	}
	defer l.Close()
	attempts, err := l.Attempts(j.ID)
	if err != nil {
		return err
	}
	printed := false
	for _, t := range attempts {
		runs := t.Ended.IsZero() && j.State == job.Running
		if runs {
			t.Output = job.OutputName(j.ID, t.Number)
		}
		if t.Output == "" {
			continue
		}
		if len(attempts) > 1 {
			fmt.Fprintf(a.Err, "--- attempt %d, %s\n", t.Number, plan.Clock(t.Started, time.Now()))
		}
		text, err := os.ReadFile(filepath.Join(l.Folder(), t.Output)) // it is bounded
		if err != nil && runs {
			continue // nothing yet
		}
		if err != nil {
			return fmt.Errorf("what attempt %d printed is no longer kept", t.Number)
		}
		if _, err := a.printed().Write(masked(f, text)); err != nil {
			return err
		}
		printed = true
	}
	switch {
	case j.State == job.Running:
		fmt.Fprintf(a.Err, "%s\n", a.StyleErr.Dim("--- it is still running; --follow goes on"))
	case !printed:
		fmt.Fprintf(a.Err, "Job %d printed nothing.\n", j.ID)
	}
	return nil
}

// printed is where a command's output goes: byte for byte, but made safe for a terminal.
func (a *app) printed() io.Writer {
	if f, ok := a.Out.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		return plainWriter{a.Out}
	}
	return a.Out
}

// masked puts stars in the place of secrets that the rules name and this program knows.
func masked(f *rule.File, text []byte) []byte {
	for _, name := range f.SecretNames() {
		if secret := os.Getenv(name); len(secret) >= shortestSecret {
			text = bytes.ReplaceAll(text, []byte(secret), []byte("***"))
		}
	}
	return text
}

// shortestSecret is the length from which a secret is told from other text.
const shortestSecret = 6

// plainWriter writes text so that it can do nothing to a terminal.
type plainWriter struct{ to io.Writer }

func (w plainWriter) Write(text []byte) (int, error) {
	_, err := io.WriteString(w.to, fill.Plain(string(text)))
	return len(text), err
}
