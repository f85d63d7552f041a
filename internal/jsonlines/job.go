package jsonlines

import (
	"encoding/base64"
	"strings"
	"time"
	"unicode/utf8"

	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
)

// Job is one job.
type Job struct {
	ID         int64      `json:"id" jsonschema:"the job's number"`
	Rule       string     `json:"rule" jsonschema:"the rule that took the file"`
	File       string     `json:"file" jsonschema:"where it was taken"`
	Files      []string   `json:"files,omitempty" jsonschema:"of a batch or group: all its files"`
	FileBase64 string     `json:"file_base64,omitempty" jsonschema:"the bytes of the name, if it is not UTF-8"`
	State      job.State  `json:"state" jsonschema:"held, queued, running, retrying, settling; or for good: processed, failed, skipped, vanished, cancelled, reverted"`
	Event      string     `json:"event" jsonschema:"what happened to the file: added, changed, renamed, removed"`
	OldFile    string     `json:"old_file,omitempty" jsonschema:"where it was before, if it was renamed"`
	Attempts   int        `json:"attempts" jsonschema:"how many were begun"`
	Taken      *time.Time `json:"taken_at" jsonschema:"when the rule took it"`
	Started    *time.Time `json:"started_at" jsonschema:"when the first attempt began, null if none has"`
	Ended      *time.Time `json:"ended_at" jsonschema:"when the job ended, null if it has not"`
	WaitedS    float64    `json:"waited_s" jsonschema:"from being taken to its first attempt"`
	RanS       float64    `json:"ran_s" jsonschema:"all attempts together; of one that runs, its time so far"`
	Exit       *int       `json:"exit_code" jsonschema:"of the last command, null if none ended by itself"`
	Reason     string     `json:"reason" jsonschema:"why it failed or waits, empty otherwise"`
	Result     string     `json:"result,omitempty" jsonschema:"what its steps have to say, such as both sizes of a picture that got smaller"`
	FileNow    *string    `json:"file_now" jsonschema:"where the input is now, null if it is no longer there"`
	Size       int64      `json:"size" jsonschema:"of the input when it was taken"`
	Hash       string     `json:"hash,omitempty" jsonschema:"SHA-256 of the input, hexadecimal, if a decision needed it"`
}

// JobOf is the line of a job.
func JobOf(j job.Job) Job {
	out := Job{
		ID: j.ID, Rule: j.Rule, File: Name(j.File), State: j.State, Event: string(j.Event), OldFile: Name(j.OldFile),
		Attempts: j.Attempts,
		Taken:    At(j.Taken), Started: At(j.Started), Ended: At(j.Ended), RanS: j.Ran.Seconds(),
		Exit: j.Exit, Reason: j.Reason, Result: j.Result, Size: j.Facts.Size, Hash: j.Hash, FileNow: Place(j.FileNow),
	}
	if files := j.Files(); len(files) > 1 {
		for _, f := range files {
			out.Files = append(out.Files, Name(f))
		}
	}
	if !utf8.ValidString(j.File) {
		out.FileBase64 = base64.StdEncoding.EncodeToString([]byte(j.File))
	}
	if !j.Started.IsZero() {
		out.WaitedS = j.Started.Sub(j.Taken).Seconds()
	}
	return out
}

// Whole is everything about one job.
type Whole struct {
	Job
	Arrived     *time.Time  `json:"arrived_at" jsonschema:"when the first event of the file came, null if that is not known"`
	Due         *time.Time  `json:"next_attempt" jsonschema:"when the next attempt is due, null if none is"`
	Waits       string      `json:"waits,omitempty" jsonschema:"what it waits for"`
	Steps       []string    `json:"steps" jsonschema:"the steps of its rule as it is written now; empty if the rule is gone"`
	AttemptList []Attempt   `json:"attempt_list" jsonschema:"its attempts, the first one first"`
	Placements  []Placement `json:"placements" jsonschema:"what it moved, made, replaced and removed, in that order"`
	Members     []Member    `json:"members" jsonschema:"the further files of a batch or group, and markers"`
	Log         string      `json:"log,omitempty" jsonschema:"the file with what the last attempt printed"`
}

// Attempt is one attempt of a job.
type Attempt struct {
	Number  int        `json:"attempt" jsonschema:"from 1"`
	Started time.Time  `json:"started_at" jsonschema:"when it began"`
	Ended   *time.Time `json:"ended_at" jsonschema:"null if it runs, or the watcher ended in the middle of it"`
	RanS    float64    `json:"ran_s" jsonschema:"how long it ran, so far"`
	Exit    *int       `json:"exit_code" jsonschema:"of its last command"`
	Reason  string     `json:"reason" jsonschema:"why it failed"`
	CPUS    float64    `json:"cpu_s" jsonschema:"processor time of its commands"`
	Memory  int64      `json:"memory,omitempty" jsonschema:"the most memory of a command, left out if that cannot be told"`
}

// Placement is one change to one file.
type Placement struct {
	Attempt  int    `json:"attempt" jsonschema:"of which attempt"`
	Kind     string `json:"kind" jsonschema:"moved, duplicate (the same content was there), put, linked, trashed, deleted, tagged"`
	Source   string `json:"source" jsonschema:"the file that was placed"`
	Target   string `json:"target" jsonschema:"where it was placed"`
	Replaced bool   `json:"replaced" jsonschema:"other content was replaced"`
	State    string `json:"state" jsonschema:"intended, done, dropped, undoing, reverting, undone"`
}

// Member is a further file of a job.
type Member struct {
	File    string  `json:"file" jsonschema:"where it was taken"`
	Marker  bool    `json:"marker" jsonschema:"it is a marker, and no input"`
	FileNow *string `json:"file_now" jsonschema:"where it is now, null if it is no longer there"`
}

// WholeOf is the line of everything about a job. Steps, log and what it waits for are the
// caller's.
func WholeOf(j job.Job, attempts []job.Attempt, placements []job.Placement, now time.Time) Whole {
	w := Whole{Job: JobOf(j), Arrived: At(j.Seen), Steps: []string{}, AttemptList: []Attempt{},
		Placements: []Placement{},
		Members:    []Member{}}
	if j.State == job.Retrying {
		w.Due = At(j.Due)
	}
	for i, t := range attempts {
		one := Attempt{Number: t.Number, Started: t.Started, Ended: At(t.Ended), Exit: t.Exit, Reason: t.Reason,
			CPUS: t.CPU.Seconds(), Memory: t.Memory}
		switch {
		case !t.Ended.IsZero():
			one.RanS = t.Ended.Sub(t.Started).Seconds()
		case j.State == job.Running && i == len(attempts)-1:
			one.RanS = now.Sub(t.Started).Seconds()
		}
		w.AttemptList = append(w.AttemptList, one)
	}
	for _, p := range placements {
		w.Placements = append(w.Placements, Placement{p.Attempt, string(p.Kind), Name(p.Source), Name(p.Target),
			p.Replaced,
			string(p.State)})
	}
	for _, m := range j.Extra {
		w.Members = append(w.Members, Member{Name(m.File), m.Companion, Place(m.FileNow)})
	}
	return w
}

// Name is a name as JSON can hold it.
func Name(name string) string { return strings.ToValidUTF8(name, "\uFFFD") }

// Place is where something is, null for nowhere.
func Place(path string) *string {
	if path == "" {
		return nil
	}
	name := Name(path)
	return &name
}

// At is a time, null for none.
func At(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	return &t
}

// Condition is one condition of a rule on one file.
type Condition struct {
	Key  string `json:"key" jsonschema:"the key of the rules file that it comes from"`
	Want string `json:"want" jsonschema:"what the rule wants"`
	Got  string `json:"got" jsonschema:"what the file has"`
	Fits bool   `json:"fits" jsonschema:"whether that fits"`
}

// ConditionOf is the line's part of a condition.
func ConditionOf(c plan.Condition) Condition { return Condition(c) }
