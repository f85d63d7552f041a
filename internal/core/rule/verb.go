package rule

import (
	"reflect"
	"slices"
)

// Act is a verb with the values of its own keys: a pointer to a struct whose tags name them.
// Each verb is a type of its own, in a file of package work. What it can do is asked by the
// rooms that need it: what is wrong with it by the notation, what it says by plan, and what it
// does by work.
type Act any

// Verb is what the notation, and those who decide, know of a kind of step.
type Verb struct {
	Name    string
	New     func() Act // a pointer to a struct whose tags name its own keys, the verb itself among them
	Options []string   // keys that it shares with other verbs, besides where and timeout
	Needs   []string   // keys without which it says nothing

	Program bool   // it starts a program
	Takes   Taking // whether the job's file is taken from where it is
	Puts    Putting
	InPlace bool // it works in the folder that the file is in
	SameRel bool // it puts things at the same path below a destination as the file has below its watched folder
	Removal bool // it has something to do for a file that was removed
	Apart   bool // it can be done when the job's file is gone
	Files   Suits
}

// Taking says whether a step takes the job's file from where it is.
type Taking int

const (
	TakesNothing    Taking = iota
	TakesUnlessFrom        // from names other files
	TakesInput
)

// Putting says what a step puts at its destination.
type Putting int

const (
	PutsNothing Putting = iota
	PutsFile            // the file, or a copy of it, perhaps under another name
	PutsOwn             // a file of its own
	PutsMany            // files whose names only a run can tell
)

// Suits says for which rules a step is.
type Suits int

const (
	SuitsAll    Suits = iota
	SuitsFiles        // not for whole folders
	SuitsSingle       // not for whole folders, batches and groups
)

// Verbs are in the order of the reference.
var Verbs []Verb

// Register makes verbs known, in the order of the reference. Package work does so for all
// of them before the program begins; a name that is there already is a mistake in it.
func Register(list ...Verb) {
	for _, v := range list {
		if verbNamed(v.Name) != nil {
			panic("rule: the verb " + v.Name + " is registered twice")
		}
		Verbs = append(Verbs, v)
	}
}

func verbNamed(name string) *Verb {
	i := slices.IndexFunc(Verbs, func(v Verb) bool { return v.Name == name })
	if i < 0 {
		return nil
	}
	return &Verbs[i]
}

// OwnKeys are the keys of the verb's own type and the fields that hold them; the verb's name
// is among them, unless the step itself has it.
func (v *Verb) OwnKeys() map[string][]int { return FieldsOf(reflect.TypeOf(v.New()).Elem()) }

// Keys are the options that go with the verb, besides where and timeout.
func (v *Verb) Keys() (keys []string) {
	for _, f := range reflect.VisibleFields(reflect.TypeOf(v.New()).Elem()) {
		if key := f.Tag.Get("key"); key != "" && key != v.Name {
			keys = append(keys, key)
		}
	}
	return append(keys, v.Options...)
}

// Has reports whether a key goes with the verb.
func (v *Verb) Has(key string) bool {
	_, own := v.OwnKeys()[key]
	return own || key == v.Name || slices.Contains(v.Options, key)
}

// VerbNames are the names of all verbs, in the order of their registration.
func VerbNames() (names []string) {
	for i := range Verbs {
		names = append(names, Verbs[i].Name)
	}
	return names
}

// VerbsWith lists the verbs with which a key goes.
func VerbsWith(key string) (names []string) {
	for i := range Verbs {
		if Verbs[i].Has(key) {
			names = append(names, Verbs[i].Name)
		}
	}
	return names
}
