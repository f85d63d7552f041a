package see

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/term"

	"stilltide/internal/byhand"
	"stilltide/internal/cli/console"
	"stilltide/internal/control"
	"stilltide/internal/core/diag"
	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/ink"
	"stilltide/internal/ledger"
	"stilltide/internal/live"
	"stilltide/internal/watcher"
	"stilltide/internal/work"
)

// maxRows bounds the jobs of each list in the live view.
const maxRows = 300

// maxLines bounds what the live view shows of one job's output.
const maxLines = 5000

// lastHour is how many minutes the live view's plot has.
const lastHour = 60

// liveView is where the live view looks: the ledger, and the watcher's socket.
type liveView struct {
	a      *app
	f      *rule.File
	diags  diag.List
	client *control.Client

	read time.Time // when the rules file had been changed that was read last

	mu      sync.Mutex
	l       *ledger.Ledger // nil until there is one
	minutes minutes
}

func (a *app) live() error {
	out, ok := a.Out.(*os.File)
	if !ok || !term.IsTerminal(int(out.Fd())) {
		return console.Usage("--live needs a terminal; stilltide status prints the same once")
	}
	f, diags, err := a.ReadRules()
	if err != nil {
		return err
	}
	if _, err := a.Watcher(f); err != nil {
		return err
	}
	v := &liveView{a: a, f: f, diags: diags, client: control.Dial(f.StateFolder())}
	ctx, stop := a.UntilSignal()
	defer stop()
	err = live.Run(ctx, v, a.In, a.Out)
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.l != nil {
		err = errors.Join(err, v.l.Close())
	}
	return err
}

// ledger opens the ledger when there is one.
func (v *liveView) ledger() (*ledger.Ledger, error) {
	if v.l == nil {
		l, err := v.a.ReadLedger(v.f)
		if err != nil || l == nil {
			return nil, err
		}
		v.l = l
	}
	return v.l, nil
}

// reread reads the rules again when their file has changed. While it cannot be read the view
// goes on with what it has.
func (v *liveView) reread() {
	info, err := os.Stat(v.f.Path)
	if err != nil || info.ModTime().Equal(v.read) {
		return
	}
	first := v.read.IsZero()
	if v.read = info.ModTime(); first {
		return
	}
	if f, diags, err := v.a.ReadRules(); err == nil && f.StateFolder() == v.f.StateFolder() {
		v.f, v.diags = f, diags
	}
}

// Look gathers what there is to see now.
func (v *liveView) Look() (live.Snapshot, error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	v.reread()
	s := live.Snapshot{Counts: map[job.State]int{}}
	w := v.a.Running(v.f) // before the ledger, as ask does
	l, err := v.ledger()
	if err != nil {
		return s, err
	}
	how, err := v.a.Standing(v.f, v.diags, l, w)
	if err != nil {
		return s, err
	}
	s.Answer, s.Wrong = how.Watcher.Headline, !how.Watcher.Well()
	for _, r := range how.Rules {
		s.Waiting += r.Settling
		s.Counts[job.Running] += r.Running
		s.Counts[job.Queued] += r.Queued
		s.Counts[job.Held] += r.Held
		s.Counts[job.Retrying] += r.Retrying
		s.Counts[job.Processed] += r.Processed
		s.Counts[job.Failed] += r.Failed
	}
	if w != nil {
		for name := range w.Pauses {
			if s.Paused = s.Paused || name == ""; name != "" {
				s.Resting = append(s.Resting, name)
			}
		}
	}
	if l == nil {
		return s, nil
	}
	v.running(&s, w)
	if err := v.lists(&s, l, w); err != nil {
		return s, err
	}
	s.Minutes, err = v.minutes.now(l, time.Now())
	return s, err
}

// running lists what runs, with the last line that it printed.
func (v *liveView) running(s *live.Snapshot, w *watcher.Live) {
	if w == nil {
		return
	}
	for _, j := range w.Running[:min(len(w.Running), maxRows)] {
		note := ""
		if lines := work.LastLines(filepath.Join(v.f.StateFolder(), job.OutputName(j.ID, j.Attempt)),
			1); len(lines) > 0 {
			note = lines[0]
		}
		if j.Attempt > 1 {
			note = strings.TrimSpace(fmt.Sprintf("attempt %d  %s", j.Attempt, note))
		}
		if j.On != "" {
			note = strings.TrimSpace("on " + j.On + "  " + note)
		}
		s.Running = append(s.Running, live.Row{ID: j.ID, Rule: j.Rule, File: console.Display(filepath.Base(j.File)),
			State: job.Running, Time: plan.Span(time.Since(j.Since)), Note: note})
	}
}

// lists fills in what waits and what is over.
func (v *liveView) lists(s *live.Snapshot, l *ledger.Ledger, w *watcher.Live) error {
	waits := []job.State{job.Queued, job.Retrying, job.Held, job.Settling}
	list, err := l.OpenJobs("", waits, 0, maxRows)
	if err != nil {
		return err
	}
	if err := errors.Join(l.Rest(list), underWay(v.f, l, w, list)); err != nil {
		return err
	}
	total := s.Counts[job.Queued] + s.Counts[job.Retrying] + s.Counts[job.Held]
	s.MoreOp = max(total-len(list), 0)
	for _, j := range list {
		row := live.Row{ID: j.ID, Rule: j.Rule, File: console.JobName(j), State: j.State,
			Time: plan.Span(time.Since(j.Taken)), Note: j.Reason}
		if j.State == job.Retrying {
			row.Note = fmt.Sprintf("again in %s: %s", plan.Span(time.Until(j.Due)), j.Reason)
		}
		s.Open = append(s.Open, row)
	}
	if list, err = l.Recent(maxRows); err != nil {
		return err
	}
	for _, j := range list {
		row := live.Row{ID: j.ID, Rule: j.Rule, File: console.JobName(j), State: j.State, Time: plan.Clock(j.Ended,
			time.Now()),
			Note: j.Reason}
		if row.Note == "" {
			row.Note = strings.TrimSpace("→ " + console.WhereNow(v.f, j) + "  " + j.Result)
		}
		s.Ended = append(s.Ended, row)
	}
	return nil
}

// act does something to one job and says what became of it.
func (v *liveView) act(id int64, online func(*control.Client, []int64) ([]byhand.Sent, error),
	offline func(*ledger.Ledger, int64) byhand.Sent) string {
	sent, err := console.ViaWatcher(v.f, []int64{id}, online, offline)
	if err != nil {
		return err.Error()
	}
	return fmt.Sprintf("Job %d: %s", id, sent[0].Reason)
}

// Retry retries a job.
func (v *liveView) Retry(id int64) string {
	return v.act(id, (*control.Client).Retry, console.Retry(v.f, v.diags))
}

// Cancel takes a job out of the queue, or stops it.
func (v *liveView) Cancel(id int64) string {
	return v.act(id, (*control.Client).Cancel, byhand.Cancel)
}

// Pause pauses a rule, or all with an empty name, or lets it go on.
func (v *liveView) Pause(name string, paused bool) string {
	names, what := []string{name}, name
	if name == "" {
		names, what = nil, "all rules"
	}
	err := v.client.Pause(names, paused, time.Time{})
	if alone := errors.Is(err, control.ErrNobody); alone && paused {
		err = byhand.Pause(v.f, names, time.Time{})
	} else if alone {
		_, err = byhand.Resume(v.f, names)
	}
	switch {
	case err != nil:
		return err.Error()
	case paused:
		return "Paused: " + what + ". What runs goes on to its end."
	}
	return "Going on: " + what + "."
}

// Output returns what a job's attempts printed, the last lines of it.
func (v *liveView) Output(id int64) []string {
	v.mu.Lock()
	defer v.mu.Unlock()
	l, err := v.ledger()
	if err != nil || l == nil {
		return nil
	}
	jobs, err := l.Jobs(job.Filter{ID: id})
	if err != nil || len(jobs) == 0 {
		return nil
	}
	var lines []string
	for n := 1; n <= jobs[0].Attempts; n++ {
		text, err := os.ReadFile(filepath.Join(v.f.StateFolder(), job.OutputName(id, n)))
		if err != nil || len(text) == 0 {
			continue // it printed nothing, or it is no longer kept
		}
		if jobs[0].Attempts > 1 {
			lines = append(lines, fmt.Sprintf("--- attempt %d", n))
		}
		for line := range strings.SplitSeq(strings.TrimRight(string(text), "\n"), "\n") {
			lines = append(lines, ink.Clean(line))
		}
	}
	return lines[max(len(lines)-maxLines, 0):]
}

// minutes counts jobs a minute. The past is read once; after that the counts
// of the ledger, which cost nothing, tell what is new.
type minutes struct {
	count [lastHour]int // the current minute last
	at    time.Time     // the current minute
	total int
	read  bool
}

func (m *minutes) now(l *ledger.Ledger, now time.Time) ([]int, error) {
	tally, err := l.Tally()
	if err != nil {
		return nil, err
	}
	total := 0
	for _, counts := range tally {
		for state, n := range counts {
			if state.Final() {
				total += n
			}
		}
	}
	this := now.Truncate(time.Minute)
	if !m.read {
		err := l.EachEnded(this.Add(-(lastHour-1)*time.Minute), func(j job.Job) {
			if back := int(this.Sub(j.Ended.Truncate(time.Minute)) / time.Minute); back >= 0 && back < lastHour {
				m.count[lastHour-1-back]++
			}
		})
		m.read, m.at, m.total = true, this, total
		return slices.Clone(m.count[:]), err
	}
	for ; m.at.Before(this); m.at = m.at.Add(time.Minute) {
		copy(m.count[:], m.count[1:])
		m.count[lastHour-1] = 0
	}
	m.count[lastHour-1] += max(total-m.total, 0)
	m.total = total
	return slices.Clone(m.count[:]), nil
}
