package fill

import (
	"fmt"
	"regexp"
	"strings"
	"sync"
)

// Command is a `run` line: words that are split first and filled afterwards,
// so no value can ever become a second word.
type Command struct {
	Words []*Template
}

// fileWords are the placeholders that name the job's file; a command without
// one gets the file at its end.
var fileWords = []string{"file", "name", "stem", "rel", "folder", "files", "list", "list0"}

// ParseCommand splits a line into words as a shell would (quotes and
// backslashes, nothing else) and reads the placeholders of each. What only a
// shell understands is an error that points to `script`.
func ParseCommand(line string) (*Command, error) {
	s := splitter{src: line}
	if err := s.split(); err != nil {
		return nil, err
	}
	if len(s.words) == 0 {
		return nil, &Error{Message: "the command is empty",
			Hint: "write the program and its words, as in: run: ./bin/convert {file}"}
	}
	c := &Command{}
	for _, w := range s.words {
		t, err := Parse(w.text)
		if err != nil {
			e := err.(*Error)
			e.Offset += w.start
			return nil, e
		}
		c.Words = append(c.Words, t)
	}
	return c, nil
}

// NamesFile reports whether a word of the file stands in the command.
func (c *Command) NamesFile() bool {
	for _, w := range c.Words {
		if w.Uses(fileWords...) {
			return true
		}
	}
	return false
}

// Fill returns the words of the command. A word with a list in it becomes as
// many words as the list has.
func (c *Command) Fill(get Lookup) ([]string, error) {
	var out []string
	for _, w := range c.Words {
		words, err := fillWord(w, get)
		if err != nil {
			return nil, err
		}
		out = append(out, words...)
	}
	return out, nil
}

func fillWord(t *Template, get Lookup) ([]string, error) {
	list := ""
	var items []string
	for _, r := range t.Refs() {
		v, err := get(r.Word)
		if err != nil {
			return nil, err
		}
		if v.List != nil {
			list, items = r.Word, v.List
		}
	}
	if list == "" {
		s, err := t.Fill(get)
		return []string{s}, err
	}
	var out []string
	for _, item := range items {
		s, err := t.Fill(func(word string) (Value, error) {
			if word == list {
				return Text(item), nil
			}
			return get(word)
		})
		if err != nil {
			return nil, err
		}
		out = append(out, s)
	}
	return out, nil
}

type splitWord struct {
	text  string
	start int
}

// splitter knows the quoting of POSIX shells (2.2 Quoting), and nothing else of them.
type splitter struct {
	src   string
	pos   int
	words []splitWord
}

func (s *splitter) split() error {
	for {
		for s.pos < len(s.src) && strings.IndexByte(" \t\n\r", s.src[s.pos]) >= 0 {
			s.pos++
		}
		if s.pos == len(s.src) {
			return nil
		}
		if err := s.word(); err != nil {
			return err
		}
	}
}

func (s *splitter) word() error {
	start := s.pos
	var out strings.Builder
	for s.pos < len(s.src) {
		c := s.src[s.pos]
		switch c {
		case ' ', '\t', '\n', '\r':
			s.words = append(s.words, splitWord{out.String(), start})
			return nil
		case '\'', '"':
			if err := s.quoted(&out, c); err != nil {
				return err
			}
			continue
		case '{': // spaces inside a placeholder, as in a date format, do not split
			if end := strings.IndexByte(s.src[s.pos:], '}'); end > 0 && !strings.HasPrefix(s.src[s.pos:], "{{") {
				out.WriteString(s.src[s.pos : s.pos+end+1])
				s.pos += end + 1
				continue
			}
		case '\\':
			s.pos++
			if s.pos == len(s.src) {
				return &Error{Offset: s.pos - 1, Near: `\`,
					Message: "the backslash at the end has nothing to act on"}
			}
		case '|', '>', '<', '&', ';', '$', '`':
			return &Error{Offset: s.pos, Near: s.src[s.pos : s.pos+1],
				Message: fmt.Sprintf("the program is started without a shell, so %q means nothing here", string(c)),
				Hint: "put shell features into a script (script: in a rule, or a file), " +
					"or quote the character if it is meant as itself"}
		}
		out.WriteByte(s.src[s.pos])
		s.pos++
	}
	s.words = append(s.words, splitWord{out.String(), start})
	return nil
}

func (s *splitter) quoted(out *strings.Builder, quote byte) error {
	start := s.pos
	for s.pos++; s.pos < len(s.src); s.pos++ {
		c := s.src[s.pos]
		if c == quote {
			s.pos++
			return nil
		}
		if c == '\\' && quote == '"' && s.pos+1 < len(s.src) && strings.IndexByte(`"\$`+"`", s.src[s.pos+1]) >= 0 {
			s.pos++
			c = s.src[s.pos]
		}
		out.WriteByte(c)
	}
	return &Error{Offset: start, Near: string(quote), Message: fmt.Sprintf("this %c has no partner to close it",
		quote)}
}

// Line writes words so that ParseCommand reads exactly them, with the placeholders
// that are in them.
func Line(words []string) string {
	written := make([]string, len(words))
	for i, w := range words {
		bare := placeholders().ReplaceAllString(w, "x")
		if written[i] = w; bare != QuoteWord(bare) {
			written[i] = "'" + strings.ReplaceAll(w, "'", `'\''`) + "'"
		}
	}
	return strings.Join(written, " ")
}

// placeholders are those of which a line needs no quotes.
var placeholders = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`\{[^{}'"]*\}`) })

// Quote writes words so that a POSIX shell reads exactly them: for the line
// that a person can copy from a failure note.
func Quote(words []string) string {
	quoted := make([]string, len(words))
	for i, w := range words {
		quoted[i] = QuoteWord(w)
	}
	return strings.Join(quoted, " ")
}

// QuoteWord writes one word so that a POSIX shell reads exactly it: a rule, a file or a folder in
// a command that a message tells to type.
func QuoteWord(w string) string {
	if w == "" {
		return "''"
	}
	plain, control := true, strings.ContainsFunc(w, Unsafe)
	for i := range len(w) {
		c := w[i]
		if c < 0x20 || c == 0x7f || c >= 0x80 {
			control = control || c < 0x80
			plain = plain && c >= 0x80
		} else if !isPlain(c) {
			plain = false
		}
	}
	if control || strings.ToValidUTF8(w, "") != w {
		return ansiQuote(w)
	}
	if plain {
		return w
	}
	return "'" + strings.ReplaceAll(w, "'", `'\''`) + "'"
}

func isPlain(c byte) bool {
	return 'a' <= c && c <= 'z' || 'A' <= c && c <= 'Z' || '0' <= c && c <= '9' || strings.IndexByte("_@%+=:,./-",
		c) >= 0
}

// ansiQuote uses $'…' (POSIX.1-2024, 2.2.4), which can hold any byte but NUL
// and keeps control characters off the terminal.
func ansiQuote(w string) string {
	var out strings.Builder
	out.WriteString("$'")
	for i := range len(w) {
		switch c := w[i]; {
		case c == '\n':
			out.WriteString(`\n`)
		case c == '\'' || c == '\\':
			out.WriteByte('\\')
			out.WriteByte(c)
		case c < 0x20 || c >= 0x7f:
			fmt.Fprintf(&out, `\%03o`, c)
		default:
			out.WriteByte(c)
		}
	}
	return out.String() + "'"
}
