package jsonlines

import (
	"time"

	"stilltide/internal/standing"
)

// Checked is the rules file as a whole.
type Checked struct {
	File     string `json:"rules_file" jsonschema:"the rules file"`
	Errors   int    `json:"errors" jsonschema:"how many errors follow"`
	Warnings int    `json:"warnings" jsonschema:"how many warnings follow"`
	Rules    int    `json:"rules" jsonschema:"how many rules it has"`
	Folders  int    `json:"folders" jsonschema:"how many folders they watch"`
}

// Finding is one error or warning in a rules file.
type Finding struct {
	File     string `json:"file" jsonschema:"the file it is in"`
	Line     int    `json:"line" jsonschema:"from 1"`
	Column   int    `json:"column" jsonschema:"from 1, in characters"`
	Severity string `json:"severity" jsonschema:"error or warning"`
	Code     string `json:"code" jsonschema:"a stable word for this kind"`
	Message  string `json:"message" jsonschema:"what is wrong"`
	Hint     string `json:"hint" jsonschema:"what to do, empty if the message says it"`
	Quote    string `json:"quote" jsonschema:"the line it is about"`
	About    string `json:"about" jsonschema:"the part of that line"`
}

// Foreseen is what would happen with one file.
type Foreseen struct {
	File      string   `json:"file" jsonschema:"the file"`
	Rule      *string  `json:"rule" jsonschema:"the rule that takes it, null if none does"`
	Reason    string   `json:"reason,omitempty" jsonschema:"why none does"`
	Settled   bool     `json:"settled" jsonschema:"whether it is ready; what is not is left as it is"`
	NotYet    string   `json:"not_yet,omitempty" jsonschema:"why it is not ready"`
	Held      string   `json:"held,omitempty" jsonschema:"why its job would not start yet"`
	Steps     []string `json:"steps" jsonschema:"what would be done, a sentence a step"`
	FileAfter *string  `json:"file_after" jsonschema:"where it would be afterwards, null if it stays, goes, or only a run can tell"`
	SameName  string   `json:"same_name,omitempty" jsonschema:"what is at its places already, and what follows from that"`
	Stage     int      `json:"stage,omitempty" jsonschema:"1 for what the job of a file that is there would place, and so on"`
	Fails     string   `json:"fails,omitempty" jsonschema:"why it would fail"`
	Discards  string   `json:"discards,omitempty" jsonschema:"to the trash, or deleted"`
}

// Verdict is what becomes of one file.
type Verdict struct {
	File      string     `json:"file" jsonschema:"the file that was asked about"`
	Exists    bool       `json:"exists" jsonschema:"whether it is there"`
	Size      int64      `json:"size" jsonschema:"its size"`
	Modified  *time.Time `json:"modified" jsonschema:"when it was changed last, null if it is not there"`
	Taker     *string    `json:"taker" jsonschema:"the rule that takes it, null if none does"`
	Sentence  string     `json:"verdict" jsonschema:"the answer in a sentence"`
	Ready     bool       `json:"ready" jsonschema:"it is settled"`
	NotYet    string     `json:"not_yet,omitempty" jsonschema:"why it is not settled"`
	Waits     string     `json:"waits,omitempty" jsonschema:"what its job, or the rule that takes it, waits for"`
	Steps     []string   `json:"steps" jsonschema:"what would be done, a sentence a step"`
	FileAfter *string    `json:"file_after" jsonschema:"where it would be after success"`
	Fails     string     `json:"fails,omitempty" jsonschema:"why it would fail"`
	SameName  []string   `json:"same_name" jsonschema:"what is at its places already"`
	PutBy     *Job       `json:"put_by" jsonschema:"the job that put it where it is, null if none did"`
	Jobs      []Job      `json:"jobs" jsonschema:"earlier jobs of this file, the newest first"`
}

// Reason is what one rule makes of a file.
type Reason struct {
	Rule       string      `json:"rule" jsonschema:"the rule"`
	Fits       bool        `json:"fits" jsonschema:"all its conditions are met"`
	Takes      bool        `json:"takes" jsonschema:"it takes the file"`
	Handled    int64       `json:"handled_by,omitempty" jsonschema:"the job that has handled the file as it is"`
	Conditions []Condition `json:"conditions" jsonschema:"its conditions"`
	Settled    bool        `json:"settled" jsonschema:"the file is settled"`
	Writers    []string    `json:"writers" jsonschema:"programs that have it open for writing"`
	FileAfter  *string     `json:"file_after" jsonschema:"where the file would be after success, of the rule that takes it"`
}

// Rule is one rule in its order.
type Rule struct {
	Rule      string         `json:"rule" jsonschema:"its name"`
	Order     int            `json:"order" jsonschema:"its place, from 1"`
	Folders   []string       `json:"folders" jsonschema:"the folders it watches"`
	Depth     string         `json:"depth" jsonschema:"how many levels below them, or all"`
	Takes     string         `json:"takes" jsonschema:"which files it takes, with all its conditions"`
	Match     []string       `json:"match" jsonschema:"its patterns"`
	State     standing.State `json:"state" jsonschema:"watching, paused, absent, blocked, disabled or stopped"`
	Held      int            `json:"held" jsonschema:"jobs that wait because it is paused, absent or before its time"`
	Notes     []string       `json:"notes" jsonschema:"what is wrong with it, a sentence each"`
	Processed string         `json:"processed_to,omitempty" jsonschema:"its processed folder, as it is written"`
	Failed    string         `json:"failed_to,omitempty" jsonschema:"its failed folder, as it is written"`
	File      string         `json:"file" jsonschema:"the file it is written in"`
	Line      int            `json:"line" jsonschema:"and the line, from 1"`
}

// Figures are one rule's figures over a time.
type Figures struct {
	Rule         string         `json:"rule" jsonschema:"the rule"`
	Jobs         int            `json:"jobs" jsonschema:"how many jobs ended"`
	Outcomes     map[string]int `json:"outcomes" jsonschema:"by state"`
	WaitedMedian float64        `json:"waited_p50_s" jsonschema:"from being taken to the first attempt: the middle"`
	Waited95     float64        `json:"waited_p95_s" jsonschema:"and what one in twenty exceeded"`
	RanMedian    float64        `json:"ran_p50_s" jsonschema:"running time: the middle"`
	Ran95        float64        `json:"ran_p95_s" jsonschema:"and what one in twenty exceeded"`
}

// Failure is a group of failures that are alike.
type Failure struct {
	Failure string    `json:"failure" jsonschema:"the reason, as the last of them has it"`
	Count   int       `json:"count" jsonschema:"how many"`
	Rules   []string  `json:"rules" jsonschema:"of which rules"`
	LastJob int64     `json:"last_job" jsonschema:"the newest of them"`
	LastAt  time.Time `json:"last_at" jsonschema:"when that ended"`
	File    string    `json:"file" jsonschema:"its file"`
}

// Unmatched is a file that no rule takes.
type Unmatched struct {
	File string `json:"unmatched" jsonschema:"the file"`
	Why  string `json:"reason" jsonschema:"why no rule takes it"`
}

// Recipe is a ready-made rules file.
type Recipe struct {
	Name string `json:"name" jsonschema:"by which it is asked for"`
	Need string `json:"need" jsonschema:"what it is about"`
	Text string `json:"text" jsonschema:"what it does, in a sentence"`
}

// Sent is what became of one job that something was done to.
type Sent struct {
	ID     int64  `json:"id" jsonschema:"the job's number"`
	Done   bool   `json:"done" jsonschema:"whether it was done"`
	Reason string `json:"reason" jsonschema:"what became of it, or why not"`
}

// Version is the program's version.
type Version struct {
	Version string `json:"version" jsonschema:"the program's version"`
}
