// Package verbs holds what a step can do: a verb in each file, with its options and their
// documentation, what check says of it, what it says and foretells before it is done, and how it
// is done. It registers them; a program that reads rules imports this package for that.
package verbs

import (
	"fmt"
	"strings"

	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/work"
)

// verb is a registration: only what can do all of it can be registered.
func verb(v rule.Verb, fresh func() work.Act) rule.Verb {
	v.New = func() rule.Act { return fresh() }
	return v
}

// init registers the verbs, in the order in which the reference lists them.
func init() {
	rule.Register(runVerb, scriptVerb, moveVerb, copyVerb, renameVerb, replaceVerb, discardVerb, unpackVerb,
		tagVerb, untagVerb, linkVerb, writeVerb, mirrorVerb, postVerb, tellVerb)
}

// sayOthers names the files of from in what a step says.
func sayOthers(verb string, from []string, to plan.Spot) string {
	return fmt.Sprintf("%s %s to %s", verb, plan.Display(strings.Join(from, ", ")), plan.Display(to.Folder()))
}
