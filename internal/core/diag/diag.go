// Package diag tells what is wrong in a rules file: diagnostics with their places, the usual slips
// with YAML, the nearest right word, and the right one for those that are expected elsewhere.
package diag

import (
	"fmt"
	"sort"
	"strings"

	"stilltide/internal/core/rule"
)

// Severity says whether a diagnostic stops the rules from being used.
type Severity string

const (
	SeverityError   Severity = "error"
	SeverityWarning Severity = "warning"
)

// Diagnostic is one thing that is wrong, or doubtful, in a rules file.
type Diagnostic struct {
	rule.Pos
	Severity Severity
	Code     string // a stable word, for programs
	Message  string // one sentence: what is wrong
	Hint     string // what to do, "" if the message says it
	Quote    string // the line it is about
	Near     string // the part of that line, if the word that begins at Pos is not the whole of it
}

// About is the part of the quoted line that the diagnostic is about: a whole word, a
// placeholder with its braces, a text with its quotes.
func (d Diagnostic) About() string {
	runes := []rune(d.Quote)
	if d.Column < 1 || d.Column > len(runes) {
		return "^"
	}
	rest := string(runes[d.Column-1:])
	if d.Near != "" && strings.HasPrefix(rest, d.Near) {
		return d.Near
	}
	switch rest[0] {
	case '"', '\'':
		if end := closing(rest); end > 0 {
			return rest[:end+1]
		}
		return rest
	case '{', '<', '[':
		if end := balanced(rest, map[byte]byte{'{': '}', '<': '>', '[': ']'}[rest[0]]); end > 0 {
			return rest[:end+1]
		}
	}
	switch end := strings.IndexAny(rest, " \t,:]}#\"'"); {
	case end < 0:
		return rest
	case end > 0:
		return rest[:end]
	}
	return string([]rune(rest)[:1])
}

// balanced returns where the bracket closes that a text begins with, -1 if it does not.
func balanced(text string, end byte) int {
	depth := 0
	for i := range len(text) {
		switch text[i] {
		case text[0]:
			depth++
		case end:
			if depth--; depth == 0 {
				return i
			}
		}
	}
	return -1
}

// List is all that was found, in the order of the text.
type List []Diagnostic

// Failed reports whether there is an error among them.
func (d List) Failed() bool {
	for _, one := range d {
		if one.Severity == SeverityError {
			return true
		}
	}
	return false
}

// Count returns the number of errors and of warnings.
func (d List) Count() (errors, warnings int) {
	for _, one := range d {
		if one.Severity == SeverityError {
			errors++
		} else {
			warnings++
		}
	}
	return errors, warnings
}

// Error makes the diagnostics usable as an error: the first of them, and how many more.
func (d List) Error() string {
	if len(d) == 0 {
		return "no errors"
	}
	first := fmt.Sprintf("%s: %s", d[0].Pos, d[0].Message)
	if len(d) > 1 {
		return fmt.Sprintf("%s (and %d more)", first, len(d)-1)
	}
	return first
}

// Sort puts diagnostics in the order of the text.
func (d List) Sort() {
	sort.SliceStable(d, func(i, j int) bool {
		a, b := d[i].Pos, d[j].Pos
		if a.File != b.File {
			return a.File < b.File
		}
		if a.Line != b.Line {
			return a.Line < b.Line
		}
		return a.Column < b.Column
	})
}

// Nearest finds the candidate that a person who wrote word most likely meant,
// "" if none is near.
func Nearest(word string, candidates []string) string {
	if all := allNearest(word, candidates); len(all) > 0 {
		return all[0]
	}
	return ""
}

// allNearest returns the candidates that are as near as the nearest, in their order.
func allNearest(word string, candidates []string) (all []string) {
	best := 1 + max(1, len([]rune(word))/3)
	for _, c := range candidates {
		d := distance(strings.ToLower(word), strings.ToLower(c))
		if d < best {
			best, all = d, nil
		}
		if d == best && d < 1+max(1, len([]rune(word))/3) {
			all = append(all, c)
		}
	}
	return all
}

// distance counts insertions, deletions, replacements and swaps of
// neighbours (optimal string alignment).
func distance(s, t string) int {
	a, b := []rune(s), []rune(t)
	var before []int
	last := make([]int, len(b)+1)
	for j := range last {
		last[j] = j
	}
	for i := 1; i <= len(a); i++ {
		row := make([]int, len(b)+1)
		row[0] = i
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			row[j] = min(last[j]+1, row[j-1]+1, last[j-1]+cost)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				row[j] = min(row[j], before[j-2]+1)
			}
		}
		before, last = last, row
	}
	return last[len(b)]
}
