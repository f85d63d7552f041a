package draft

import (
	"errors"
	"fmt"
	"regexp"
	"strings"
)

// ErrPlace says that a rule cannot be put into a file whose list of rules stands in one line.
var ErrPlace = errors.New("its rules stand in one line")

// Insert puts a rule into the text of a rules file: before the entry that begins at a line
// (from 1) and the comment above it, or last if that is 0. Nothing else changes.
func Insert(text string, r Rule, before int) (string, error) {
	if strings.TrimSpace(text) == "" {
		return "version: 1\nrules:\n" + r.Entry(2), nil
	}
	if !strings.HasSuffix(text, "\n") {
		text += "\n"
	}
	rulesKey := regexp.MustCompile(`^rules:[ \t]*(#.*)?$`)
	emptyList := regexp.MustCompile(`^rules:[ \t]*(\[[ \t]*\])?[ \t]*(#.*)?$`)
	lines := strings.SplitAfter(text, "\n")
	lines = lines[:len(lines)-1]
	key := -1
	for i, line := range lines {
		if strings.HasPrefix(line, "rules:") {
			key = i
		}
	}
	switch {
	case key < 0:
		return text + "rules:\n" + r.Entry(2), nil
	case !emptyList.MatchString(strings.TrimRight(lines[key], "\n")):
		return "", fmt.Errorf("%w; write them one below the other", ErrPlace)
	case !rulesKey.MatchString(strings.TrimRight(lines[key], "\n")): // rules: []
		lines[key] = "rules:\n"
	}
	indent, end := list(lines, key+1)
	at := end
	if before > 0 {
		at = aboveComment(lines, before-1, key)
	}
	entry := r.Entry(indent)
	if before > 0 {
		entry += "\n"
	} else if at > key+1 {
		entry = "\n" + entry
	}
	return strings.Join(lines[:at], "") + entry + strings.Join(lines[at:], ""), nil
}

// list finds out how far the dashes of a list are indented, and where it ends.
func list(lines []string, from int) (indent, end int) {
	indent, end = 2, from
	found := false
	for i := from; i < len(lines); i++ {
		line := strings.TrimRight(lines[i], " \t\n")
		trimmed := strings.TrimLeft(line, " ")
		if trimmed == "" || strings.HasPrefix(trimmed, "#") {
			continue
		}
		depth := len(line) - len(trimmed)
		if !found {
			if !strings.HasPrefix(trimmed, "- ") {
				return indent, end
			}
			indent, found = depth, true
		} else if depth < indent || depth == indent && !strings.HasPrefix(trimmed, "-") {
			return indent, end
		}
		end = i + 1
	}
	return indent, end
}

// aboveComment returns the line at which the comment above a line begins.
func aboveComment(lines []string, at, key int) int {
	for at-1 > key && strings.HasPrefix(strings.TrimLeft(lines[at-1], " "), "#") {
		at--
	}
	return at
}
