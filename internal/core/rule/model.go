// Package rule is the compiled model of a rules file: the rules as the program works with
// them, and what is known of each verb. Package notation makes it; where something was written
// it keeps, so that whoever finds a doubt later can say where.
//
// A file without errors comes out complete: patterns and templates are compiled, every default
// is filled in, and nothing later can find it invalid.
package rule

import (
	"cmp"
	"path/filepath"
	"slices"
	"time"

	"stilltide/internal/core/expr"
	"stilltide/internal/core/file"
	"stilltide/internal/core/fill"
	"stilltide/internal/core/pattern"
)

// FileName is the name that is looked for when no rules file is named.
const FileName = "stilltide.yaml"

// File is a whole rules file.
type File struct {
	Version    int                 `key:"version" doc:"the version of this notation: 1"`
	Workers    int                 `key:"workers" doc:"how many jobs run at once, all rules together; the number of CPUs, at least 2, if left out"`
	State      Path                `key:"state_folder" doc:"the ledger's folder, one for each rules file; .stilltide if left out"`
	More       []Text              `key:"more_rules" doc:"files with more rules, in name order after these: a path or glob, or a list"`
	Vars       Vars                `key:"vars" doc:"placeholders for all rules, each a fixed text; a file beside this one, named like it with .local.yaml at its end, may give this machine's own"`
	IgnoreAll  []Text              `key:"ignore" doc:"patterns that no rule takes, besides the built-in list"`
	Categories map[string]Category `key:"categories" doc:"more categories of files, or other names for them: types, as"`
	Queues     Queues              `key:"queues" doc:"named queues, each with workers, rate and priority"`
	Channels   Channels            `key:"channels" doc:"where notices go, by name; log is always there"`
	Notify     *Notify             `key:"notify" doc:"who is told of what belongs to no rule: on: blocked, unmatched; to: channels"`
	Heartbeat  *Heartbeat          `key:"heartbeat" doc:"a channel that is told regularly that all is well: to, every"`
	Fleet      *Fleet              `key:"fleet" doc:"how rules with a pool reach other machines: server, key_file, ca, max_in_flight, shared; no connection is opened if left out"`
	Listen     Text                `key:"listen" doc:"address of this machine for /metrics and /healthz, such as 127.0.0.1:9470; none if left out"`
	Replaced   Size                `key:"keep_replaced" doc:"how much of what was replaced is kept, so that it can be undone; 1GB if left out"`
	Stop       Duration            `key:"stop_after" doc:"how long running commands may go on after the watcher was asked to end; 30s if left out"`
	Keep       Duration            `key:"keep_history" doc:"how long the details of jobs that are over are kept; 90d if left out"`
	Defaults   Rule                `key:"defaults" doc:"any rule key; a rule's own wins"`
	Rules      Entries             `key:"rules" doc:"the rules, in their order: the first that fits takes the file"`

	Path     string        // the rules file itself
	Base     string        // its folder
	Machine  Machine       // on which they are meant
	Ignore   *pattern.List // nil if there is no ignore:
	Sorts    *Categories   // what categories: says
	Included []string      // the files that more_rules named, and the machine's own variables

	List []*Rule
}

// All lists the rules in their order.
func (f *File) All() []*Rule { return f.List }

// ByName finds the rules by their names.
func (f *File) ByName() map[string]*Rule {
	named := make(map[string]*Rule, len(f.List))
	for _, r := range f.List {
		named[r.Name.S] = r
	}
	return named
}

// Renamed tells which rules keep the memory of an old name: the rule's name by the old one. An old
// name that a rule still has is none.
func (f *File) Renamed() map[string]string {
	named, renamed := f.ByName(), map[string]string{}
	for _, r := range f.List {
		if old := r.OldName.S; r.OldName.Set() && renamed[old] == "" && named[old] == nil {
			renamed[old] = r.Name.S
		}
	}
	return renamed
}

// StateName is the state folder where none is named, beside the rules file.
const StateName = ".stilltide"

// StateFolder is the absolute path of the ledger's folder.
func (f *File) StateFolder() string {
	if !f.State.Set() {
		return filepath.Join(f.Base, StateName)
	}
	return f.State.Absolute()
}

// KeepHistory is how long the details of jobs that are over are kept.
func (f *File) KeepHistory() time.Duration {
	if f.Keep.Pos.Line == 0 {
		return 90 * 24 * time.Hour
	}
	return f.Keep.Duration
}

// StopAfter is how long running commands may go on after the watcher was asked to end.
func (f *File) StopAfter() time.Duration {
	if f.Stop.Pos.Line == 0 {
		return 30 * time.Second
	}
	return f.Stop.Duration
}

// KeepReplaced is how many bytes of replaced content are kept.
func (f *File) KeepReplaced() int64 {
	if f.Replaced == 0 {
		return 1_000_000_000
	}
	return int64(f.Replaced)
}

// WorkerCount is the number of jobs that may run at once.
func (f *File) WorkerCount() int {
	if f.Workers > 0 {
		return f.Workers
	}
	return max(2, f.Machine.CPUs)
}

// Entries stands in the model for the list of rules as it is written; what it says is in All.
type Entries struct{}

// Rule is one rule. Its parts hold the keys that people write, and what is made of them.
type Rule struct {
	Name Text `key:"name" doc:"a short word, unique in the file"`
	Takes
	Waits
	Works
	Starts
	Ends
	Compiled
}

// Takes is which files a rule takes.
type Takes struct {
	Watch     []Path          `key:"watch" doc:"the folder to watch, or a list of folders"`
	Depth     Depth           `key:"depth" doc:"0 for only that folder, a number of levels, or all"`
	Unit      Unit            `key:"unit" doc:"file, or folder: a folder directly inside watch"`
	Events    []Event         `key:"events" doc:"what the rule reacts to: added, changed, removed, renamed (within what is watched; {old_file} is where it was); a rename into the pattern is added"`
	Match     []Text          `key:"match" doc:"a pattern or a list of patterns; any may fit, and a leading ! takes back"`
	Hidden    bool            `key:"hidden" doc:"also names that begin with a dot"`
	Case      bool            `key:"ignore_case" doc:"match without regard to case"`
	Category  []Text          `key:"category" doc:"one of pictures, audio, video, documents, spreadsheets, presentations, books, archives, code, data, fonts, programs, other and those of categories:, by content, then by name; or a list"`
	MediaType []Text          `key:"media_type" doc:"media type by content, then by name: image/*, or a list"`
	Size      SizeRange       `key:"size" doc:"range of sizes: 100MB.., ..2KiB"`
	Age       AgeRange        `key:"age" doc:"range of ages since the last change: 1h..30d"`
	Where     Where           `key:"where" doc:"a CEL expression over name stem ext file rel size modified age media_type category event tags now, captures and let words"`
	Let       map[string]Text `key:"let" doc:"more words, each a CEL expression"`
	Existing  Existing        `key:"existing" doc:"files that were there before the rule first watched the folder: take or leave"`
	Share     bool            `key:"share" doc:"later rules may take the file too, after this one"`
	Enabled   bool            `key:"enabled" doc:"false: the rule is off"`
	OldName   Text            `key:"old_name" doc:"an old name of this rule, whose memory it keeps"`
	Examples  []Example       `key:"examples" doc:"files that check tries the rules on"`
}

// Waits is when a file is ready, and what belongs together.
type Waits struct {
	Debounce Duration `key:"debounce" doc:"quiet time since the last change before a file is taken"`
	Ready    Ready    `key:"ready" doc:"when a file is ready: writers, marker, min_size, max_wait, overdue"`
	Batch    *Batch   `key:"batch" doc:"one job for all files that come together: quiet, max_files, max_wait"`
	Group    *Group   `key:"group" doc:"one job for files that belong together: by, need, max_wait, overdue"`
	Poll     Poll     `key:"poll" doc:"how often to look where the system sends no events: auto (5 s) or a time"`
	Running  Running  `key:"while_running" doc:"the file changes while its job runs: finish_first (then run again), stop_old (stop it, run again) or own_work (the change is the job's own)"`
}

// Works is what is done with a file, and again.
type Works struct {
	Do      []Step   `key:"do" doc:"the steps, one after the other; a step that fails ends the attempt"`
	Run     Text     `key:"run" doc:"short for a do with this one step: a program without a shell"`
	Script  Text     `key:"script" doc:"short for a do with this one step: the text of a script"`
	Timeout Duration `key:"timeout" doc:"bound on one attempt; none if left out"`
	Retry   Retry    `key:"retry" doc:"how many more attempts after the first, or a mapping with times, delay, factor, max_delay, jitter, never_on_exit, never_on_status, after_crash"`
	Again   Again    `key:"again" doc:"a file that stays: changed, never or always"`
	AgainOn []Path   `key:"again_on" doc:"files whose change has all be handled again that was handled and stays: paths, or globs of names in a folder"`
	Loops   Loops    `key:"loops" doc:"stop or allow a file that this rule itself placed"`
}

// Starts is when a job starts, and where.
type Starts struct {
	Queue     Text      `key:"queue" doc:"a named queue; the common one if left out"`
	SerialBy  Text      `key:"serial_by" doc:"a template; jobs with the same value never run at the same time, whatever their rule"`
	Pool      Text      `key:"pool" doc:"the pool of other machines that run its commands (fleet:); this machine if left out"`
	WhileAway WhileAway `key:"while_away" doc:"while no machine of the pool can be reached: hold (the jobs wait) or run_here"`
	Bring     []Path    `key:"bring" doc:"programs and files of the rules folder that travel along with its commands, kept by the other machines: paths, or globs of names in a folder"`
	Order     Order     `key:"order" doc:"arrival, name, oldest, newest or smallest"`
	Schedule  Schedule  `key:"schedule" doc:"five-field cron, with names, and perhaps a time zone at its end: jobs wait for it; without one the zone is this machine's"`
}

// Ends is what becomes of the input, and who is told.
type Ends struct {
	SameName  SameName `key:"same_name" doc:"what happens if that name is in the processed or failed folder with other content: number, replace, skip or fail"`
	Processed *Place   `key:"processed" doc:"the folder where the input goes after success; it stays if left out"`
	Notify    *Notify  `key:"notify" doc:"who is told: on: failed, processed, caught_up, overdue, blocked; to: channels"`
	Failed    *Place   `key:"failed" doc:"the folder where the input goes after the last failed attempt, with a failure note; it stays if left out"`
}

// Compiled is what is made of the keys, for the program to work with.
type Compiled struct {
	Pos     Pos
	Home    string            // what ~ at the beginning of a path stands for
	Index   int               // place in the order, from 0
	Folders []string          // watch, absolute and clean; of a glob its fixed part
	Ways    map[string]string // other names of watched folders, through links: the name that each goes by
	Globs   []Glob            // the globs of folders in watch
	Matcher *pattern.List
	Gather  *Gather // what batch or group says, nil if neither is there
	Steps   []Step  // what to do, whichever way it was written
	Key     *fill.Template
	Lets    []Let    // in the order in which they are filled
	Saved   []string // the words that steps save

	Fixed map[string]string // the words of the file
	Sorts *Categories       // those of the file

	Env           expr.Env // what the steps' expressions may name, but for saved words
	EventsWritten bool
}

func (r *Rule) SetPos(p Pos) { r.Pos = p }

func (r *Rule) NoteKey(key string, _ Pos) { r.EventsWritten = r.EventsWritten || key == "events" }

// Moves reports whether the input leaves its folder after success.
func (r *Rule) Moves() bool {
	for i := range r.Steps {
		if s := &r.Steps[i]; s.TakesInput() && !s.kind.InPlace && !s.Where.Set() {
			return true
		}
	}
	return r.Processed != nil
}

// Places lists the rule's destinations at the end of a job.
func (r *Rule) Places() []*Place {
	var list []*Place
	for _, p := range []*Place{r.Processed, r.Failed} {
		if p != nil {
			list = append(list, p)
		}
	}
	return list
}

// Spelled returns the name that a folder goes by, if a link leads to a watched one.
func (r *Rule) Spelled(folder string) string {
	if len(r.Ways) == 0 {
		return folder
	}
	for at := folder; ; at = filepath.Dir(at) {
		if to, ok := r.Ways[at]; ok {
			return to + folder[len(at):]
		}
		if at == filepath.Dir(at) {
			return folder
		}
	}
}

// autoPoll is how often a folder without events is looked at for a rule that does not say.
const autoPoll = 5 * time.Second

// PollEvery is how often folders without events are looked at: as often as the most
// impatient of the rules wants.
func (f *File) PollEvery() time.Duration {
	often := time.Duration(0)
	for _, r := range f.All() {
		if each := cmp.Or(time.Duration(r.Poll), autoPoll); often == 0 || each < often {
			often = each
		}
	}
	return cmp.Or(often, autoPoll)
}

// Levels is how many levels of subfolders the rule looks at.
func (r *Rule) Levels() int { return int(r.Depth) }

// Folded reports whether the rule's units are whole folders.
func (r *Rule) Folded() bool { return r.Unit == UnitFolder }

// Reacts reports whether the rule reacts to an event.
func (r *Rule) Reacts(e file.Event) bool {
	for _, own := range r.Events {
		if file.Event(own) == e {
			return true
		}
	}
	return false
}

// Uses reports whether one of the placeholders stands in any step or destination.
func (r *Rule) Uses(words ...string) bool {
	for i := range r.Steps {
		if r.Steps[i].uses(words...) {
			return true
		}
	}
	for _, p := range r.Places() {
		if p.Folder.Uses(words...) || p.Name != nil && p.Name.Uses(words...) {
			return true
		}
	}
	return false
}

// NeedsScratch reports whether any step needs the attempt's own folder.
func (r *Rule) NeedsScratch() bool {
	for i := range r.Steps {
		if r.Steps[i].NeedsScratch() {
			return true
		}
	}
	return false
}

// Unpacks reports whether any step unpacks an archive.
func (r *Rule) Unpacks() bool {
	return slices.ContainsFunc(r.Steps, func(s Step) bool { return s.kind.Puts == PutsMany })
}

// Repairs is the step whose results are made again when they are lost or changed, nil if there
// is none.
func (r *Rule) Repairs() *Step {
	for i := range r.Steps {
		if a, ok := r.Steps[i].Act.(interface{ Repairs() bool }); ok && a.Repairs() {
			return &r.Steps[i]
		}
	}
	return nil
}

// Derives reports whether a mirror of the rule holds what is made from each file, and not the
// file itself.
func (r *Rule) Derives() bool { return r.derived() != nil }

// derived is that step.
func (r *Rule) derived() *Step {
	for i := range r.Steps {
		if s := &r.Steps[i]; s.kind != nil && s.kind.SameRel && len(s.From) > 0 {
			return s
		}
	}
	return nil
}

// Runs reports whether any step starts a program.
func (r *Rule) Runs() bool {
	return slices.ContainsFunc(r.Steps, func(s Step) bool { return s.Runs() })
}
