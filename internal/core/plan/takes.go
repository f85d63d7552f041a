package plan

import (
	"strings"

	"stilltide/internal/core/file"
	"stilltide/internal/core/rule"
)

// Takes says in one line which files a rule takes: its patterns, and all its other
// conditions.
func Takes(r *rule.Rule) string {
	text := words(r.Match, ", ")
	kinds := words(r.Category, " and ")
	switch {
	case text != "" && kinds != "":
		text += " that are " + kinds
	case kinds != "":
		text = kinds
	case text == "":
		text = "everything"
	}
	if r.Folded() {
		text = "folders, " + text
	}
	var more []string
	add := func(key, value string) {
		if value != "" {
			more = append(more, key+" "+value)
		}
	}
	add("type", words(r.MediaType, " or "))
	add("size", r.Size.Text)
	add("age", r.Age.Text)
	add("where", r.Where.S)
	if !r.Reacts(file.Added) || !r.Reacts(file.Changed) || r.Reacts(file.Removed) {
		var events []string
		for _, e := range r.Events {
			events = append(events, string(e))
		}
		add("when", strings.Join(events, ", "))
	}
	if r.Hidden {
		more = append(more, "hidden ones too")
	}
	return strings.Join(append([]string{text}, more...), ", ")
}

// words joins texts of a rule.
func words(list []rule.Text, with string) string {
	texts := make([]string, len(list))
	for i, t := range list {
		texts[i] = t.S
	}
	return strings.Join(texts, with)
}

// Written lists the steps of a rule as they are written, nothing filled in: a verb, and the
// command, the first line of the script or the destination that it is given.
func Written(r *rule.Rule) []string {
	steps := make([]string, len(r.Steps))
	for i, s := range r.Steps {
		given := s.Run.S
		switch {
		case s.Script.S != "":
			given, _, _ = strings.Cut(s.Script.S, "\n")
		case given == "" && s.To != nil:
			given = s.To.S
		}
		steps[i] = strings.TrimSuffix(s.Verb()+": "+given, ": ")
	}
	return steps
}
