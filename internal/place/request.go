package place

import (
	"path/filepath"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/held"
)

// Request is one placement.
type Request struct {
	Source string // the file that is moved or copied
	// the watched folder that Source lies in or below: the way from there may pass through no link; "" for its own
	// folder
	Root   string
	To     plan.Spot // the folder is made if needed
	Expect file.Facts
	Part   string // hidden name for a file on its way; the same after a crash, so that it can be found
	Ledger string // Part is PartName of these two when it is needed, if it is empty
	Job    int64
	Same   rule.SameName // what happens if the name is there with other content; "" for number
	Kept   string        // the path where content that is replaced is kept
	Near   bool          // a move that would have to copy to another file system fails with ErrFar
	// files that are to be placed here before this one: the names that they will have are left to them
	First []job.Ahead
	// Held reports whether a file at the target is another job's that still works on it: it
	// will go on from there, so it neither stands in for the source nor is replaced.
	Held  func(path string) bool
	Apart bool // equal content at the target is no reason to remove the source
	// Passing says that the file goes on from the target: it takes no name that is left to another, though it were
	// one with the same content.
	Passing bool
	// Untouched says that nothing has looked at the file's content or worked on it, so
	// that no descriptor has to keep its inode number from another file with the same
	// size and times: what stat(2) tells before and after the move is enough.
	Untouched bool
	// Ours reports whether what has the name may be replaced in any case.
	Ours func(path string, f file.Facts) bool
	// Stage makes the intention durable: first before anything is made (with
	// no facts), then, with the facts by which the file will be known, before
	// it gets its name. Nil if the caller has done so.
	Stage func([]Staged) error
	// Amend is Stage for those who have told the intention before, and is called if it turns
	// out otherwise: the source goes because its content is at the target, or a folder is
	// copied and will be known by other facts.
	Amend func(Staged) error
	// Relied is that of a Record whose file is removed.
	Relied func() error
	// Looks, if set, has the mode and the time that a copy gets instead of its source's.
	Looks *file.Facts

	from *held.Folder // that Source lies in
	made int          // folders that were made to open the target's
}

// Staged is a file that is about to get its name.
type Staged struct {
	Target    string
	Facts     file.Facts // what will be there; the zero value before anything is made
	Duplicate bool       // the same content is there already: only the source goes
	Replaced  bool       // what is there now is kept and replaced
	Kept      string     // where it is kept, if that is not what the request says
	Made      int        // folders that were made for it, from its own upwards
}

// Amend notes in a record how a placement will turn out otherwise than that says.
func (s Staged) Amend(p *job.Placement) {
	p.Target, p.After = s.Target, s.Facts
	if s.Duplicate {
		p.Kind = job.Duplicate
	}
}

func (r *Request) held(path string) bool { return r.Held != nil && r.Held(path) }

func (r *Request) part() string {
	if r.Part == "" {
		r.Part = PartName(r.Ledger, r.Job, r.Source)
	}
	return r.Part
}

func (r *Request) stage(s Staged) error {
	s.Made = r.made
	otherwise := s.Duplicate || s.Facts.Dir && s.Facts.Ino != r.Expect.Ino
	switch {
	case r.Stage != nil:
		return r.Stage([]Staged{s})
	case otherwise && r.Amend != nil:
		return r.Amend(s)
	}
	return nil
}

// Result is what a placement did.
type Result struct {
	Target string
	Facts  file.Facts // of the target afterwards
	Made   int        // folders that were made for it, from its own upwards
	Same   bool       // the same content was there already; a move removed its source, a copy did nothing
	Here   bool       // the target is the source itself, so nothing was done
	Lost   []string   // what the target cannot hold: extended attributes, "owner", "permissions", "times"
	Rest   *job.Rest  // what is still at the source of a folder whose copy is complete, nil if nothing
}

// base is the source's name in its folder.
func (r *Request) base() string { return filepath.Base(r.Source) }
