// Package job has the records of what the watcher does: jobs, their attempts and placements,
// and the files that rules remember; and the table of a job's states. They are values: the
// flow makes them, the ledger keeps them, and who asks is shown them.
package job

import (
	"path/filepath"
	"slices"
	"strconv"
	"time"

	"stilltide/internal/core/file"
)

// State is the state of a job.
type State string

const (
	Settling  State = "settling" // the file changed before the job ran, and has to settle again
	Held      State = "held"
	Queued    State = "queued"
	Running   State = "running"
	Retrying  State = "retrying"
	Processed State = "processed"
	Failed    State = "failed"
	Skipped   State = "skipped"
	Vanished  State = "vanished" // the input was gone first
	Cancelled State = "cancelled"
	Reverted  State = "reverted" // what it placed was taken back by hand
)

// States lists all states in the order in which a job can pass through them.
var States = []State{Settling, Held, Queued, Running, Retrying, Processed, Failed, Skipped, Vanished, Cancelled,
	Reverted}

// Final reports whether a job in this state is over.
func (s State) Final() bool {
	switch s {
	case Processed, Failed, Skipped, Vanished, Cancelled, Reverted:
		return true
	}
	return false
}

// Job is one file taken by one rule.
type Job struct {
	ID       int64
	Rule     string
	File     string // where it was taken, absolute
	Watch    string // the watched folder it was found in
	State    State
	Event    file.Event
	OldFile  string     // where it was before, if it was renamed
	Facts    file.Facts // size, times and identity of what was taken
	Hash     string     // SHA-256, hexadecimal; "" if no decision needed it
	Attempts int
	Crashes  int       // attempts that the watcher's end cut short, since the job was last retried by hand
	Earlier  int       // attempts before the job was last retried by hand
	Seen     time.Time // when its first event came; zero if that is not known
	Taken    time.Time
	Due      time.Time // the next attempt, zero for at once
	Started  time.Time // the first attempt
	Ended    time.Time
	Ran      time.Duration // all attempts together
	Exit     *int          // exit code of the last command
	Reason   string        // one sentence, "" after success
	FileNow  string        // where the input is now, "" if nowhere
	Chain    string        // rules that the input went through before, comma-separated
	Depth    int           // depth of suspected descent from the rule's own jobs
	Result   string        // what its steps have to say, such as both sizes of a picture that got smaller
	Last     *Attempt      // the newest attempt, nil if there was none; it is never changed, but replaced
	Extra    []Member      // the other files of a batch or group, and markers
}

// Member is a further file of a job.
type Member struct {
	File      string
	Facts     file.Facts
	Companion bool   // a marker: it goes along, and is no input
	FileNow   string // where it is now, "" if nowhere
}

// Files lists the job's inputs.
func (j Job) Files() []string {
	files := []string{j.File}
	for _, m := range j.Extra {
		if !m.Companion {
			files = append(files, m.File)
		}
	}
	return files
}

// Staying lists those of the inputs that are where they were taken.
func (j *Job) Staying() (paths []string) {
	if j.FileNow == j.File {
		paths = append(paths, j.File)
	}
	for _, m := range j.Extra {
		if m.FileNow == m.File && !m.Companion {
			paths = append(paths, m.File)
		}
	}
	return paths
}

// Now lists where the files of a job are, and their markers, as far as they are somewhere.
func (j Job) Now() []string {
	places := []string{j.FileNow}
	for _, m := range j.Extra {
		places = append(places, m.FileNow)
	}
	return slices.DeleteFunc(places, func(path string) bool { return path == "" })
}

// Took returns what a job knows of a file that it took at a path, alone or with others: what it was,
// and where it is now.
func (j Job) Took(path string) (f file.Facts, now string, ok bool) {
	if j.File == path {
		return j.Facts, j.FileNow, true
	}
	for _, m := range j.Extra {
		if m.File == path {
			return m.Facts, m.FileNow, true
		}
	}
	return f, "", false
}

// Left returns what a file was that a job took, and that it left at a path.
func (j Job) Left(path string) (f file.Facts, ok bool) {
	if j.FileNow == path {
		return j.Facts, true
	}
	for _, m := range j.Extra {
		if m.FileNow == path {
			return m.Facts, true
		}
	}
	return f, false
}

// Attempt is one try at a job's steps.
type Attempt struct {
	Job     int64
	Number  int // from 1
	Started time.Time
	Ended   time.Time
	Exit    *int
	Reason  string
	CPU     time.Duration
	Memory  int64  // bytes, peak
	Output  string // file with what was printed, below the state folder; "" if nothing was
}

// OutputName returns the file, below the state folder, with what an attempt prints.
func OutputName(job int64, attempt int) string {
	return filepath.Join("output", strconv.FormatInt(job, 10)+"-"+strconv.Itoa(attempt)+".txt")
}

// PlacementState says how far a placement is.
type PlacementState string

const (
	Intended  PlacementState = "intended" // recorded before the file is touched
	Done      PlacementState = "done"
	Dropped   PlacementState = "dropped"   // it turned out not to happen
	Undoing   PlacementState = "undoing"   // it is being taken back, because its attempt failed
	Reverting PlacementState = "reverting" // it is being taken back by hand, which a start finishes
	Undone    PlacementState = "undone"
)

// Places lists where placements have taken files from and put them, as far as that was not taken back: what a crash
// has cut short may lie at any of these.
func Places(list []Placement) (paths []string) {
	for _, p := range list {
		if p.State != Dropped && p.State != Undone {
			paths = append(paths, p.Source, p.Target)
		}
	}
	return paths
}

// GoingBack reports whether a placement is being taken back.
func (s PlacementState) GoingBack() bool { return s == Undoing || s == Reverting }

// Placement is one change to one file: a move, a copy, a replacement, a removal.
type Placement struct {
	ID         int64
	Job        int64
	Attempt    int
	Kind       Kind
	Source     string
	Target     string
	Facts      file.Facts // of the source, before
	After      file.Facts // of the target, afterwards
	Replaced   bool       // content was replaced
	Kept       string     // where that is kept
	Made       int        // folders that were made for the target, from its own upwards
	Chained    bool       // a rule may take the target: it must be found by its path
	State      PlacementState
	FinalState State // the state the job has afterwards; "" for a placement of a step
}

// Done notes that it was done, and how its target looks.
func (p *Placement) Done(after file.Facts) { p.State, p.After = Done, after }

// Known is a file that a rule has handled and that is still there.
type Known struct {
	Rule  string
	File  string
	Facts file.Facts
	Hash  string
	Job   int64
}

// SettingsOf is the name under which the files of a rule's again_on are remembered, beside those that it handles: no
// rule can have it.
func SettingsOf(rule string) string { return "/again_on/" + rule }
