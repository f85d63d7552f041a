package diag

import (
	"fmt"
	"reflect"
	"regexp"
	"strings"
	"sync"
	"unicode/utf8"

	"stilltide/internal/core/rule"
)

// YAML gives some characters a meaning that people do not expect in a pattern, a command
// or a placeholder. The parser's own words for what goes wrong then do not help, so the
// usual slips are looked for in the line, and said with what to write instead.

// Slip is what is wrong with a line that is not YAML.
type Slip struct {
	Column  int // from 1, in characters
	Message string
	Hint    string
}

// keyed splits a line into its indentation with any dashes, a key and a value.
var keyed = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^(\s*(?:- +)*)([A-Za-z_][\w-]*):(?:\s+(.*))?$`) })

// SlipIn explains why a line (from 1) is not YAML; ok is false if it is no usual slip.
func SlipIn(lines []string, line int) (s Slip, ok bool) {
	if line < 1 || line > len(lines) {
		return s, false
	}
	text := strings.TrimRight(lines[line-1], "\r")
	if i := strings.IndexByte(text, '\t'); i >= 0 && strings.TrimLeft(text[:i], " ") == "" {
		return Slip{i + 1, "a tab stands in the indentation, and YAML indents with spaces", "write spaces instead"},
			true
	}
	if m := keyed().FindStringSubmatchIndex(text); m != nil {
		if m[6] >= 0 {
			value := text[m[6]:m[7]]
			if s, ok = slipInValue(text[m[4]:m[5]], value); ok {
				s.Column = utf8.RuneCountInString(text[:m[6]]) + 1
				return s, true
			}
		}
		if strings.Contains(text[:m[3]], "-") {
			return misplacedEntry(lines, line)
		}
		return misplaced(lines, line, utf8.RuneCountInString(text[:m[3]]))
	}
	if item := strings.TrimLeft(text, " -"); item != "" && !strings.ContainsAny(item, ":{}[]\"'#") {
		if key, value, two := strings.Cut(item, " "); two && isRuleKey(key) {
			at := utf8.RuneCountInString(text) - utf8.RuneCountInString(item)
			return Slip{at + 1, "a colon is missing after " + key, "write " + key + ": " +
				strings.TrimSpace(value)}, true
		}
	}
	return misplacedEntry(lines, line)
}

// misplacedEntry explains an entry of a list that begins in another column than the one
// above it.
func misplacedEntry(lines []string, line int) (s Slip, ok bool) {
	dash := func(text string) int {
		if trimmed := strings.TrimLeft(text, " "); strings.HasPrefix(trimmed, "-") {
			return len(text) - len(trimmed)
		}
		return -1
	}
	here := dash(lines[line-1])
	for i := line - 2; i >= 0 && here >= 0; i-- {
		switch above := dash(lines[i]); {
		case above == here:
			return s, false
		case above >= 0:
			return Slip{here + 1, fmt.Sprintf("this entry begins after %s, and the one above it after %d",
				spaces(here), above),
				fmt.Sprintf("the entries of a list begin in one column: indent it by %d", above)}, true
		}
	}
	return s, false
}

// slipInValue looks at what stands behind a key.
func slipInValue(key, value string) (s Slip, ok bool) {
	quoted := key + ": " + Quoted(value)
	what := ""
	switch value[0] {
	case '*':
		what = "a * at the beginning of a value is an alias in YAML"
	case '!':
		what = "a ! at the beginning of a value is a tag in YAML"
	case '&':
		what = "a & at the beginning of a value is an anchor in YAML"
	case '@', '`', '%':
		what = fmt.Sprintf("no value begins with %c in YAML", value[0])
	case '{':
		end := strings.IndexByte(value, '}')
		if end < 0 {
			return Slip{Message: "this { has no } to close it", Hint: "add it, or quote the value: " + quoted}, true
		}
		if placeholderFirst().MatchString(value) {
			what = "a placeholder at the beginning of a value is a mapping in YAML"
		}
	case '[':
		if !strings.Contains(value, "]") {
			return Slip{Message: "this [ has no ] to close it", Hint: "add it, or quote the value: " + quoted}, true
		}
	case '"', '\'':
		end := closing(value)
		if end < 0 {
			return Slip{Message: "this quote is not closed", Hint: fmt.Sprintf("add a %c at the end", value[0])},
				true
		}
		if rest := strings.TrimSpace(value[end+1:]); rest != "" && rest[0] != '#' {
			return Slip{Message: "the value ends at its second quote, and more text follows",
				Hint: "quote the whole of it: " + quoted}, true
		}
		return s, false
	default:
		if strings.Contains(value, ": ") || strings.HasSuffix(value, ":") {
			what = "a colon and a space in a value begin a mapping in YAML"
		}
	}
	if what == "" {
		return s, false
	}
	return Slip{Message: what, Hint: "quote it: " + quoted}, true
}

// placeholderFirst fits a value that begins with a placeholder, and not a mapping.
var placeholderFirst = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^\{[a-z][a-z0-9_]*([:|][^ }]+)*\}`) })

// closing returns where a quoted text ends, -1 if nowhere.
func closing(value string) int {
	for i := 1; i < len(value); i++ {
		switch {
		case value[0] == '"' && value[i] == '\\':
			i++
		case value[0] == '\'' && value[i] == '\'' && i+1 < len(value) && value[i+1] == '\'':
			i++
		case value[i] == value[0]:
			return i
		}
	}
	return -1
}

// Quoted writes a value as YAML takes it for a text.
func Quoted(value string) string {
	if strings.ContainsAny(value, `"\`) {
		return "'" + strings.ReplaceAll(value, "'", "''") + "'"
	}
	return `"` + value + `"`
}

// misplaced explains a line whose indentation fits none of the lines above it.
func misplaced(lines []string, line, indent int) (s Slip, ok bool) {
	for i := line - 2; i >= 0; i-- {
		above := lines[i]
		if trimmed := strings.TrimSpace(above); trimmed == "" || trimmed[0] == '#' {
			continue
		}
		m := keyed().FindStringSubmatchIndex(above)
		if m == nil {
			return s, false
		}
		want := utf8.RuneCountInString(above[:m[3]])
		if m[6] < 0 || indent == want {
			return s, false
		}
		return Slip{indent + 1, fmt.Sprintf("this line begins after %s, and the keys above it after %d",
			spaces(indent), want),
			fmt.Sprintf("keys that belong together begin in one column: indent it by %d", want)}, true
	}
	return s, false
}

func spaces(n int) string {
	if n == 1 {
		return "1 space"
	}
	return fmt.Sprintf("%d spaces", n)
}

// isRuleKey tells a forgotten colon from a text.
func isRuleKey(word string) bool {
	_, is := rule.FieldsOf(reflect.TypeFor[rule.Rule]())[word]
	return is
}
