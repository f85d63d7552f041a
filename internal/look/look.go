// Package look tells what a file is: its facts from the watched folder that it lies below,
// through no link on the way; what its content and tags say, as far as a rule asks for it;
// and the one name that a folder goes by.
package look

import (
	"stilltide/internal/content"
	"stilltide/internal/core/file"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/core/turn"
	"stilltide/internal/watchfs"
)

// From looks at a path as the watcher does: from the watched folder it lies below, and
// through no link on the way.
func From(set *plan.Set, path string) (file.Facts, error) {
	var by watchfs.Looker
	defer by.Close()
	return By(&by, set, path)
}

// By is From with a Looker, for many files in a row.
func By(looker *watchfs.Looker, set *plan.Set, path string) (file.Facts, error) {
	root := set.Root(path)
	if root == "" {
		return watchfs.LookAny(path)
	}
	return looker.LookBelow(root, path)
}

// Complete finds out what a rule needs to know of a file that is there.
func Complete(set *plan.Set, r *rule.Rule, path string, facts *file.Facts) {
	CompleteAs(set, r, path, path, facts)
}

// CompleteAs is Complete for a file that will have another path by then.
func CompleteAs(set *plan.Set, r *rule.Rule, path, as string, facts *file.Facts) {
	needs, says := set.Needs(r), facts.Says()
	if !says.Lacks(needs) {
		return
	}
	known := &says.Known
	if needs.Kind && !known.Kind {
		if says.Kind = content.MediaTypeOfName(as); facts.Exists {
			says.Kind = content.MediaTypeAs(path, as)
		}
		known.Kind = true
	}
	if needs.Tags && !known.Tags {
		says.Tags, known.Tags = content.Tags(path), true
	}
	if needs.Shot && !known.Shot {
		says.Shot, _ = content.Shot(path)
		known.Shot = true
	}
	if needs.Made && !known.Made {
		says.Made, _ = content.Made(path)
		known.Made = true
	}
	facts.Inside = &says
}

// Whole looks at a path and at all that its rules may ask of what is inside.
func Whole(set *plan.Set, path string) (res turn.Look) {
	if res.Facts, res.Err = From(set, path); res.Err != nil || !res.Facts.Regular {
		return res
	}
	for _, c := range set.Candidates(path) {
		Complete(set, c.Rule, path, &res.Facts)
	}
	return res
}
