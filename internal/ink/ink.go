// Package ink writes text for a terminal: its width in columns, colours that
// add to the words and never replace them, and names made safe to print.
package ink

import (
	"io"
	"os"
	"strings"

	"github.com/mattn/go-runewidth"
	"golang.org/x/term"

	"stilltide/internal/core/fill"
	"stilltide/internal/core/job"
)

// Style colours text on a terminal. The words alone always say the same.
type Style struct{ On bool }

// For turns colour on for a terminal, unless NO_COLOR is set.
func For(w io.Writer) Style {
	f, ok := w.(*os.File)
	return Style{ok && os.Getenv("NO_COLOR") == "" && os.Getenv("TERM") != "dumb" && term.IsTerminal(int(f.Fd()))}
}

func (s Style) paint(code, text string) string {
	if !s.On || text == "" {
		return text
	}
	return "\x1b[" + code + "m" + text + "\x1b[0m"
}

// Good colours what is well.
func (s Style) Good(t string) string { return s.paint("32", t) }

// Warn colours what wants attention.
func (s Style) Warn(t string) string { return s.paint("33", t) }

// Bad colours what is wrong.
func (s Style) Bad(t string) string { return s.paint("1;31", t) }

// Dim colours what matters less.
func (s Style) Dim(t string) string { return s.paint("2", t) }

// Bold colours what matters more.
func (s Style) Bold(t string) string { return s.paint("1", t) }

// State colours a job's state.
func (s Style) State(st job.State, text string) string {
	switch st {
	case job.Processed:
		return s.Good(text)
	case job.Failed:
		return s.Bad(text)
	case job.Retrying, job.Vanished, job.Cancelled, job.Reverted, job.Held:
		return s.Warn(text)
	}
	return text
}

// Width is how many columns a text takes.
func Width(s string) int {
	if plain(s) {
		return len(s)
	}
	return runewidth.StringWidth(s)
}

// plain tells that a text has nothing but printable ASCII, as nearly all have.
func plain(s string) bool {
	for i := range len(s) {
		if s[i] < 0x20 || s[i] > 0x7e {
			return false
		}
	}
	return true
}

// Clean makes a text safe to show in one line.
func Clean(s string) string { return fill.PlainLine(s) }

// Cut shortens a text in its middle to a width. More of its end is kept than of its beginning:
// there a name has its date and its ending.
func Cut(s string, most int) string {
	if Width(s) <= most {
		return s
	}
	end := (most - 1) * 3 / 5
	return runewidth.Truncate(s, most-1-end, "") + "…" + runewidth.TruncateLeft(s, Width(s)-end, "")
}

// Fill breaks a text into lines of at most a width, at its spaces; all but the first begin with
// an indent of so many. A word that is too long for a line is shortened in its middle.
func Fill(s string, most, indent int) string { return broken(s, most, most, indent) }

// Block is Fill for a text whose first line begins at the indent already.
func Block(s string, most, indent int) string { return broken(s, most-indent, most, indent) }

func broken(s string, first, most, indent int) string {
	if Width(s) <= first {
		return s
	}
	var b strings.Builder
	room, empty := first, true
	for word := range strings.SplitSeq(s, " ") {
		wide := Width(word)
		switch {
		case empty:
		case wide+1 <= room:
			b.WriteByte(' ')
			room--
		default:
			b.WriteString("\n" + strings.Repeat(" ", indent))
			room = most - indent
		}
		word = Cut(word, max(room, 1))
		b.WriteString(word)
		room, empty = room-Width(word), false
	}
	return b.String()
}

// Pad fills a text up to a width with spaces.
func Pad(s string, to int) string {
	return s + strings.Repeat(" ", max(0, to-Width(s)))
}
