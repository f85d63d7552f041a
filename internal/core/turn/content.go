package turn

import (
	"stilltide/internal/core/file"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
)

// Content is what the content of a job's file decides: a job is skipped if its rule has handled
// that before. Hashes are SHA-256, in hexadecimal.
type Content struct {
	Asked  bool   // its hash is wanted: to decide by it now or later, or to fill it in
	Unless string // the job is skipped if it has this hash; "" for none
	Never  bool   // the job is skipped if the rule has handled it, under whatever name
}

// ContentOf is what the content decides for a job of one file. unless is the hash that the rule
// remembers of the file at this path; forced has it handled once more whatever was handled before.
func ContentOf(p *plan.Job, unless string, forced bool) Content {
	r := p.Rule
	if p.Event == file.Removed || p.Facts.Dir || r.Gather != nil || len(r.Steps) == 0 {
		return Content{}
	}
	never := r.Again == rule.AgainNever
	return Content{Asked: !r.Moves() || r.Uses("hash") || never, Unless: unless, Never: never && !forced}
}

// Skips reports whether a job whose content has a hash is skipped; handled is asked whether
// another job of the rule has handled such content.
func (c Content) Skips(hash string, handled func(hash string) (bool, error)) (bool, error) {
	if c.Unless != "" && c.Unless == hash {
		return true, nil
	}
	if !c.Never {
		return false, nil
	}
	return handled(hash)
}
