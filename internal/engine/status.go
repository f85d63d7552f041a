package engine

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"time"

	"stilltide/internal/core/file"
	"stilltide/internal/core/gather"
	"stilltide/internal/core/plan"
	"stilltide/internal/ledger"
	"stilltide/internal/place"
	"stilltide/internal/watchfs"
)

// Live is what only a running watcher knows; the ledger holds the rest.
type Live struct {
	PID      int               `json:"pid"`
	Version  string            `json:"version"`
	Started  time.Time         `json:"started"`
	Rules    string            `json:"rules"` // the rules file it reads
	Trouble  string            `json:"blocked,omitempty"`
	Rejected string            `json:"rejected,omitempty"`      // why changed rules are not in use
	Names    []string          `json:"names"`                   // the rules, in their order
	Settling map[string]int    `json:"settling"`                // files that are not settled, by rule
	Files    []LiveFile        `json:"files"`                   // the longest waiting of them
	Running  []LiveJob         `json:"running,omitempty"`       // the longest running first
	Troubles map[string]string `json:"blocked_rules,omitempty"` // by rule: why it needs your attention
	// by rule: jobs that wait for room or for a disk
	Hindered map[string]Hindrance  `json:"hindered,omitempty"`
	Paused   []string              `json:"paused,omitempty"` // rules; "" for all
	Folders  map[string]LiveFolder `json:"folders"`
}

// Hindrance is what jobs wait for that is not their files' fault.
type Hindrance struct {
	Jobs int    `json:"jobs"`
	Why  string `json:"why"` // of one of them
}

// hindered reports which jobs wait for room or for a disk.
func (f *flow) hindered() map[string]Hindrance {
	all := map[string]Hindrance{}
	for _, j := range f.jobs {
		if s := j.setback(); s.why != "" && f.running[j.row.ID] == nil {
			all[j.row.Rule] = Hindrance{all[j.row.Rule].Jobs + 1, s.why}
		}
	}
	return all
}

// LiveFile is a file that is not settled yet.
type LiveFile struct {
	Rule  string    `json:"rule"`
	File  string    `json:"file"`
	Since time.Time `json:"since"`
	Why   string    `json:"why"`
}

// LiveJob is a job whose attempt runs.
type LiveJob struct {
	ID      int64     `json:"id"`
	Rule    string    `json:"rule"`
	File    string    `json:"file"`
	Attempt int       `json:"attempt"`
	Since   time.Time `json:"since"` // when this attempt began
}

// LiveFolder is the state of a watched folder.
type LiveFolder struct {
	Absent  bool   `json:"absent,omitempty"`
	Polled  string `json:"polled,omitempty"` // why it is polled
	Trouble string `json:"blocked,omitempty"`
}

// maxLiveFiles bounds the list of files in Live.
const maxLiveFiles = 200

// Live asks the running engine.
func (e *Engine) Live() (Live, error) {
	l := Live{PID: os.Getpid(), Version: e.o.Version, Started: e.started, Settling: map[string]int{},
		Troubles: map[string]string{}, Folders: map[string]LiveFolder{}}
	if err := e.troubled(); err != nil {
		l.Trouble = err.Error()
	}
	err := e.do(func() {
		l.Rules, l.Rejected = e.o.Rules.Path, e.tell.rejected
		maps.Copy(l.Troubles, e.flow.troubles)
		l.Hindered = e.flow.hindered()
		for _, r := range e.flow.set.Rules() {
			l.Names = append(l.Names, r.Name.S)
		}
		for name := range e.flow.paused {
			l.Paused = append(l.Paused, name)
		}
		e.flow.gather.Each(func(path string, k gather.Key, since time.Time, missing []string) {
			why := "more files may come"
			if len(missing) > 0 {
				why = "nothing fits " + strings.Join(missing, ", ") + " yet"
			}
			l.Settling[k.Rule]++
			l.Files = append(l.Files, LiveFile{Rule: k.Rule, File: path, Since: since, Why: why})
		})
		for _, w := range e.flow.settle.All() {
			l.Settling[w.Rule]++
			l.Files = append(l.Files, LiveFile{Rule: w.Rule, File: w.Path, Since: w.Since, Why: w.Why})
		}
		for _, j := range e.flow.running {
			l.Running = append(l.Running, LiveJob{ID: j.row.ID, Rule: j.row.Rule, File: j.row.File,
				Attempt: j.row.Attempts, Since: j.row.Last.Started})
		}
		for path, f := range e.folders {
			l.Folders[path] = LiveFolder{Absent: f.absent, Polled: f.polled, Trouble: f.trouble}
		}
	})
	sort.Slice(l.Running, func(i, j int) bool { return l.Running[i].Since.Before(l.Running[j].Since) })
	sort.Slice(l.Files, func(i, j int) bool { return l.Files[i].Since.Before(l.Files[j].Since) })
	l.Files = l.Files[:min(len(l.Files), maxLiveFiles)]
	return l, err
}

// Tally counts the running engine's jobs by rule and state.
func (e *Engine) Tally() (map[string]map[ledger.State]int, error) { return e.ledger.Tally() }

// Start is what the first look through the folders found.
type Start struct {
	Folders int // watched folders that are there
	Polled  int // those of them that are only looked at now and then
	Absent  int // those that are not there
	Files   int // files to look at
	Jobs    int // jobs from before
}

func (e *Engine) begun() Start {
	s := Start{Files: e.flow.settle.Len(), Jobs: e.before}
	for path := range e.flow.set.Folders() {
		f := e.folders[path]
		if f.absent {
			s.Absent++
			continue
		}
		s.Folders++
		if f.polled != "" {
			s.Polled++
		}
	}
	return s
}

// Progress is how far the work is.
type Progress struct {
	ToDo    int      // files that have not settled, and jobs that are not over
	More    bool     // there are more in their folders, of which nothing was taken in yet
	Running []string // what runs, the longest running first
}

// maxRunning bounds the list in Progress.
const maxRunning = 8

// Progress asks the running engine.
func (e *Engine) Progress() (Progress, error) {
	var p Progress
	err := e.do(func() {
		p.ToDo = e.flow.settle.Len()
		_, held := e.queue.holdsUp(time.Now())
		p.More = held || len(e.events.Events()) == cap(e.events.Events())
		running := slices.SortedFunc(maps.Values(e.flow.running),
			func(a, b *job) int { return a.row.Last.Started.Compare(b.row.Last.Started) })
		for _, j := range running[:min(len(running), maxRunning)] {
			p.Running = append(p.Running, j.row.File)
		}
	})
	if err != nil {
		return p, err
	}
	tally, err := e.ledger.Tally()
	for _, counts := range tally {
		p.ToDo += counts[ledger.Queued] + counts[ledger.Running]
	}
	return p, err
}

// Sent says what became of retrying one job.
type Sent struct {
	ID     int64  `json:"id"`
	Done   bool   `json:"done"`
	Reason string `json:"reason"`
}

// Retry retries a job of the running engine.
func (e *Engine) Retry(id int64) Sent {
	row, err := jobByID(e.ledger, id)
	if err != nil {
		return Sent{ID: id, Reason: err.Error()}
	}
	busy := false
	err = e.do(func() {
		if busy = e.flow.jobs[id] != nil || e.flow.byPath[row.File] != nil; !busy {
			e.flow.reserved[row.File] = true
		}
	})
	if err != nil {
		return Sent{ID: id, Reason: err.Error()}
	}
	if busy {
		return Sent{ID: id, Reason: "the job, or another one for its file, is still active"}
	}
	opened, rests, err := sendRound(e.ledger, &e.placer, row)
	doErr := e.do(func() {
		delete(e.flow.reserved, row.File)
		if err == nil {
			e.flow.restore(opened, opened.State, nil, time.Now())
		}
	})
	if err = errors.Join(err, doErr); err != nil {
		return Sent{ID: id, Reason: err.Error()}
	}
	return Sent{ID: id, Done: true, Reason: strings.Join(append([]string{"queued again"}, rests...), "; ")}
}

// Cancel takes a job out of the queue, or stops it.
func (e *Engine) Cancel(id int64) Sent {
	running := false
	var err error
	doErr := e.do(func() {
		running = e.flow.running[id] != nil
		if e.flow.jobs[id] == nil { // perhaps it waits in the ledger alone
			if row, findErr := jobByID(e.ledger, id); findErr == nil && !row.State.Final() {
				e.flow.window.find(e.flow, row.File)
			}
		}
		err = e.flow.cancelJob(id, time.Now())
	})
	switch err = errors.Join(err, doErr); {
	case err != nil:
		return Sent{ID: id, Reason: err.Error()}
	case running:
		return Sent{ID: id, Done: true, Reason: "it is being stopped"}
	}
	return Sent{ID: id, Done: true, Reason: "cancelled; its input stays where it is"}
}

// CancelOffline takes a job out of the queue while no watcher runs.
func CancelOffline(l *ledger.Ledger, id int64) Sent {
	row, err := jobByID(l, id)
	if err == nil && row.State.Final() {
		err = fmt.Errorf("the job is over: it is %s", row.State)
	}
	if err != nil {
		return Sent{ID: id, Reason: err.Error()}
	}
	was := row.State
	row.State, row.Reason, row.Ended, row.Due = ledger.Cancelled, "it was cancelled by hand", time.Now(),
		time.Time{}
	l.Record(row, was)
	l.Remember(ledger.Known{Rule: row.Rule, File: row.File, Facts: row.Facts, Job: id})
	return Sent{ID: id, Done: true, Reason: "cancelled; its input stays where it is"}
}

// Dismiss notes that somebody has seen that a job failed.
func (e *Engine) Dismiss(id int64) Sent { return dismiss(e.ledger, id) }

// DismissOffline does that while no watcher runs.
func DismissOffline(l *ledger.Ledger, id int64) Sent { return dismiss(l, id) }

func dismiss(l store, id int64) Sent {
	row, err := jobByID(l, id)
	if err == nil && row.State != ledger.Failed {
		err = fmt.Errorf("it is %s, not failed", row.State)
	}
	if err != nil {
		return Sent{ID: id, Reason: err.Error()}
	}
	l.RecordDismissed(row)
	return Sent{ID: id, Done: true, Reason: "dismissed; it stays in the list of jobs"}
}

// CatchUp brings the ledger's tables up to date for those who read them beside
// the watcher.
func (e *Engine) CatchUp() error { return e.ledger.Flush() }

// Pause pauses rules, or lets them go on; no names mean all.
func (e *Engine) Pause(names []string, paused bool) error {
	return e.do(func() {
		e.flow.setPaused(names, paused)
		if !paused {
			e.mounts.accept(e.ledger, e.flow.set, names)
			e.events.Sweep()
		}
	})
}

func jobByID(l store, id int64) (ledger.Job, error) {
	_ = l.Flush() // what cannot be written is asked for as it was
	rows, err := l.Jobs(ledger.Filter{ID: id})
	if err != nil {
		return ledger.Job{}, err
	}
	if len(rows) == 0 {
		return ledger.Job{}, fmt.Errorf("there is no job %d", id)
	}
	return rows[0], nil
}

// RetryOffline retries a job while no watcher runs: the next one
// works on it.
func RetryOffline(l *ledger.Ledger, id int64) Sent {
	err := finishPuttingBack(l, &place.Placer{})
	var row ledger.Job
	var rests []string
	if err == nil {
		row, err = jobByID(l, id)
	}
	if err == nil {
		_, rests, err = sendRound(l, &place.Placer{}, row)
	}
	if err != nil {
		return Sent{ID: id, Reason: err.Error()}
	}
	return Sent{ID: id, Done: true, Reason: strings.Join(append([]string{"queued; the next watch or sweep works " +
		"on it"}, rests...), "; ")}
}

// sendRound puts a job's input back where it came from, removes its failure
// note, and opens the job again. rests says what could not be removed of a folder there.
func sendRound(l store, placer *place.Placer, row ledger.Job) (_ ledger.Job, rests []string, _ error) {
	switch {
	case !row.State.Final():
		return row, nil, fmt.Errorf("the job is still active: %s", row.State)
	case row.FileNow == "":
		return row, nil, fmt.Errorf("its input is no longer there")
	}
	facts, err := watchfs.LookAny(row.FileNow)
	if err != nil {
		return row, nil, err
	}
	if !facts.Exists {
		return row, nil, fmt.Errorf("its input is not in %s any more", plan.Display(row.FileNow))
	}
	if err := ownsInput(l, row); err != nil {
		return row, nil, err
	}
	from, was := row.FileNow, row.State
	r := round{l: l, placer: placer, row: &row}
	if facts, err = r.putBack(row.FileNow, row.File, facts); err != nil {
		return row, nil, err
	}
	if err := r.putBackMembers(); err != nil {
		return row, nil, err
	}
	if err := removeTraces(placer, was, from, row.File); err != nil {
		return row, nil, err
	}
	row.State, row.Facts, row.Ended, row.Earlier, row.Crashes = ledger.Queued, facts, time.Time{}, row.Attempts, 0
	row.Reason, row.Exit, row.FileNow, row.Due = "", nil, row.File, time.Time{}
	l.Record(row, was)
	if len(row.Extra) > 0 {
		l.RecordMembers(row)
	}
	for _, p := range r.back { // last: until then it is found as one that was cut short
		l.RecordPlacement(p)
	}
	return row, r.rests, nil
}

// removeTraces removes what lies beside a job's input, or describes it, where that was left:
// a failure note, and what the trash says of it.
func removeTraces(placer *place.Placer, was ledger.State, from, to string) error {
	if from != to && filepath.Base(filepath.Dir(from)) == "files" {
		_ = placer.Discard(place.InfoOf(from))
	}
	if was != ledger.Failed {
		return nil
	}
	err := os.Remove(from + plan.NoteEnding)
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	return err
}

// ownsInput checks that what lies where a job's input was left is that input, and
// not a newer file of the same name.
func ownsInput(l store, row ledger.Job) error {
	later, err := l.Jobs(ledger.Filter{File: row.FileNow, After: row.ID})
	if err != nil {
		return err
	}
	for _, j := range later {
		if j.FileNow == row.FileNow && (j.Facts.Size != row.Facts.Size || j.Facts.Mod != row.Facts.Mod) {
			return fmt.Errorf("its input is no longer there: %s is the file of job %d now",
				plan.Display(row.FileNow), j.ID)
		}
	}
	return nil
}

// round puts a job's files back for another round.
type round struct {
	l      store
	placer *place.Placer
	row    *ledger.Job
	back   []ledger.Placement // done, but not recorded so
	rests  []string           // what could not be removed of folders that are back
}

// putBackMembers puts the further files of a batch or group back, and markers.
// One that is no longer there stays away.
func (r *round) putBackMembers() error {
	for i := range r.row.Extra {
		m := &r.row.Extra[i]
		if m.FileNow == "" {
			continue
		}
		facts, err := watchfs.Stat(m.FileNow)
		if err != nil {
			return err
		}
		if !facts.Exists {
			m.FileNow = ""
			continue
		}
		if m.Facts, err = r.putBack(m.FileNow, m.File, facts); err != nil {
			return err
		}
		m.FileNow = m.File
	}
	return nil
}

// putBack moves one file from where it is to where it was taken.
func (r *round) putBack(from, to string, facts file.Facts) (file.Facts, error) {
	if from == to {
		return facts, nil
	}
	if there, err := watchfs.Stat(to); err != nil || there.Exists {
		return facts, errors.Join(err, fmt.Errorf("another file has its place: %s", plan.Display(to)))
	}
	p := ledger.Placement{ID: r.l.NextPlacement(), Job: r.row.ID, Kind: string(place.Moved), Source: from,
		Target: to, Facts: facts, After: facts, State: ledger.Intended, FinalState: ledger.Queued, Chained: true}
	record := func() error {
		r.l.RecordPlacement(p)
		return r.l.Sync(context.Background())
	}
	if err := record(); err != nil {
		return facts, err
	}
	res, err := r.placer.Move(place.Request{Source: from, To: place.SpotWithin(r.row.Watch, to), Expect: facts,
		Part: place.PartName(r.l.Folder(), r.row.ID),
		Amend: func(s place.Staged) error {
			amended(&p, s)
			return record()
		}})
	if err != nil {
		p.State = ledger.Dropped
		r.l.RecordPlacement(p)
		return facts, err
	}
	if res.Rest != nil {
		r.rests = append(r.rests, res.Rest.String())
	}
	p.State, p.After = ledger.Done, res.Facts
	r.back = append(r.back, p)
	if res.Facts.Dir {
		return watchfs.LookTree(to)
	}
	return res.Facts, nil
}

// Left is what waits when Run has ended.
type Left struct {
	Unsettled int             // files that have not settled
	Retrying  int             // jobs that wait for another attempt
	Held      map[string]int  // jobs that are held, by rule
	Paused    map[string]bool // the paused rules; "" for all
}

// Left reports what waits when Run has ended.
func (e *Engine) Left() (Left, error) {
	l := Left{Unsettled: e.flow.settle.Len() + e.flow.gather.Len(), Held: map[string]int{}, Paused: e.flow.paused}
	if err := e.ledger.Flush(); err != nil {
		return l, err
	}
	tally, err := e.ledger.Tally()
	for rule, counts := range tally {
		l.Retrying += counts[ledger.Retrying]
		if l.Held[rule] = counts[ledger.Held]; l.Paused[rule] || l.Paused[""] {
			l.Held[rule] += counts[ledger.Queued]
		}
	}
	return l, err
}
