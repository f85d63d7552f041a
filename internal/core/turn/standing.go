package turn

import (
	"slices"
	"time"

	"stilltide/internal/core/file"
	"stilltide/internal/core/plan"
)

// Chosen is what a pass by hand works on. The zero value is everything.
type Chosen struct {
	Rules []string  // these rules only
	Paths []string  // these files, and what lies below these folders, only
	Since time.Time // files whose content was changed by then are left out
	Again bool      // what was handled before is handled again
	None  bool      // nothing at all, until something is chosen
}

// Has reports whether a file of a rule is chosen.
func (c *Chosen) Has(rule, path string) bool { return c.HasRule(rule) && c.HasPath(path) }

// HasRule reports whether a rule is chosen.
func (c *Chosen) HasRule(rule string) bool {
	return len(c.Rules) == 0 || slices.Contains(c.Rules, rule)
}

// HasPath reports whether what lies at a path is chosen.
func (c *Chosen) HasPath(path string) bool {
	return !c.None && len(c.Paths) == 0 || slices.ContainsFunc(c.Paths, func(chosen string) bool {
		_, below := plan.Below(path, chosen)
		_, holds := plan.Below(chosen, path) // a folder that is taken as a whole
		return below || holds || path == chosen
	})
}

// Old reports whether a file was changed too long ago.
func (c *Chosen) Old(facts file.Facts) bool {
	return !c.Since.IsZero() && facts.Mod.Time().Before(c.Since)
}

// Hindrance is what jobs wait for that is not their files' fault.
type Hindrance struct {
	Jobs int    `json:"jobs"`
	Why  string `json:"why"` // of one of them
}

// Pool is how a pool of other machines stands.
type Pool struct {
	Places int    // commands that it takes at once
	Away   string // why none can be handed over, "" if that is not known, or not so
}

// Lost is a file whose result is lost, and the last job of its rule for it when that was found.
type Lost struct {
	Input string
	Job   int64
}
