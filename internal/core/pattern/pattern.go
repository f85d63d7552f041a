// Package pattern compiles the patterns of the key `match`.
//
// A pattern is a glob with captures. `*` and `?` never match a slash, `**` as a
// whole segment matches any number of folders, `[a-z]` and `[!a-z]` are classes,
// `{a,b}` alternatives. `<word>` matches what `*` matches and captures it under
// that name; `<word=pattern>` captures only what the inner pattern matches. Each
// capture is as short as possible, from the left. A backslash escapes the next
// character. `re:` introduces an RE2 expression with named groups, and a bare
// ending such as `.csv` means `*.csv` in any case.
//
// A pattern without a slash is matched against the name, one with a slash
// against the path below the watched folder. Everything compiles to RE2, so no
// pattern is slow on any name.
package pattern

import (
	"regexp"
	"strings"
	"sync"

	"golang.org/x/text/unicode/norm"
)

// Options change how all patterns of one rule are read.
type Options struct {
	IgnoreCase bool
}

// Pattern is one compiled pattern. It is safe for concurrent use.
type Pattern struct {
	text   string
	re     *regexp.Regexp
	names  []string // capture names in order, "" for groups without a name
	wide   bool     // held against the path below the watched folder
	prefix string   // the literal text that every fitting name begins with
	ending string   // the literal text that every fitting name ends in
	exact  bool     // case is kept, so prefix and ending can be compared before the expression runs
	simple bool     // nothing but prefix, one star and ending: the expression need not run at all
}

// Error says what is wrong with a pattern and where.
type Error struct {
	Pattern string
	Offset  int // bytes from the start of the pattern
	Message string
	Near    string // the part of the pattern that is meant, to point at
}

func (e *Error) Error() string { return e.Message }

var bareEnding = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^(\.[A-Za-z0-9]+)+$`) })

// Compile reads one pattern. The error is always an *Error.
func Compile(text string, o Options) (*Pattern, error) {
	if text == "" {
		return nil, &Error{Pattern: text, Message: "the pattern is empty; write * to fit every name"}
	}
	if expr, ok := strings.CutPrefix(text, "re:"); ok {
		return compileExpression(text, expr, o)
	}
	glob := norm.NFC.String(text)
	if bareEnding().MatchString(glob) {
		glob, o.IgnoreCase = "*"+glob, true
	}
	c := compiler{src: glob}
	body, err := c.sequence(0, "")
	if err != nil {
		return nil, err
	}
	p := &Pattern{text: text, wide: strings.Contains(glob, "/"), prefix: string(c.prefix), ending: c.ending(),
		exact: !o.IgnoreCase}
	p.simple = p.exact && !p.wide && p.prefix+"*"+p.ending == glob
	return p.finish(body, o)
}

func compileExpression(text, expr string, o Options) (*Pattern, error) {
	if _, err := regexp.Compile(expr); err != nil {
		message := strings.TrimPrefix(err.Error(), "error parsing regexp: ")
		return nil, &Error{Pattern: text, Offset: len("re:"), Message: "this regular expression cannot be read: " +
			message}
	}
	p := &Pattern{text: text, wide: strings.Contains(expr, "/")}
	return p.finish(expr, o)
}

func (p *Pattern) finish(body string, o Options) (*Pattern, error) {
	flags := "(?s)"
	if o.IgnoreCase {
		flags = "(?si)"
	}
	re, err := regexp.Compile(flags + `\A(?:` + body + `)\z`)
	if err != nil {
		return nil, &Error{Pattern: p.text, Message: "this pattern cannot be read: " +
			strings.TrimPrefix(err.Error(), "error parsing regexp: ")}
	}
	p.re, p.names = re, re.SubexpNames()
	seen := map[string]bool{}
	for _, n := range p.Names() {
		if !ValidName(n) {
			return nil, &Error{Pattern: p.text, Offset: max(0, strings.Index(p.text, n)), Near: n,
				Message: "the capture name " + n +
					" is not a plain word; use a-z, 0-9 and _, beginning with a letter"}
		}
		if seen[n] {
			return nil, &Error{Pattern: p.text, Offset: strings.LastIndex(p.text, n), Near: n,
				Message: "the capture name " + n + " stands twice in one pattern"}
		}
		seen[n] = true
	}
	return p, nil
}

var validName = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^[a-z][a-z0-9_]*$`) })

// ValidName reports whether a word can name a capture.
func ValidName(word string) bool { return validName().MatchString(word) }

// String returns the pattern as it was written.
func (p *Pattern) String() string { return p.text }

// Wide reports whether the pattern is held against the path below the watched
// folder and not only against the name.
func (p *Pattern) Wide() bool { return p.wide }

// Ending is the literal text that every fitting name ends in, "" if there is none.
func (p *Pattern) Ending() string { return p.ending }

// Names lists the captures of the pattern from left to right.
func (p *Pattern) Names() []string {
	var names []string
	for _, n := range p.names {
		if n != "" {
			names = append(names, n)
		}
	}
	return names
}

// Match reports whether the pattern fits. name is the last element of rel; rel
// is the path below the watched folder with forward slashes.
func (p *Pattern) Match(name, rel string) bool { return p.match(normal(name), normal(rel)) }

func (p *Pattern) match(name, rel string) bool {
	_, ok := p.find(name, rel, false)
	return ok
}

// Captures returns what each capture met; ok is false if the pattern does not fit.
func (p *Pattern) Captures(name, rel string) (captures map[string]string, ok bool) {
	return p.find(normal(name), normal(rel), true)
}

// normal returns a name in the form in which patterns are written (NFC).
func normal(s string) string {
	if ascii(s) || norm.NFC.IsNormalString(s) {
		return s
	}
	return norm.NFC.String(s)
}

// ascii spares most names the question whether they are normal.
func ascii(s string) bool {
	for i := range len(s) {
		if s[i] >= 0x80 {
			return false
		}
	}
	return true
}

// CapturesPath holds the pattern against a whole path, also if it has no slash.
func (p *Pattern) CapturesPath(path string) (captures map[string]string, ok bool) {
	if !p.wide && strings.Contains(path, "/") && !strings.Contains(p.text, "**") {
		return nil, false // one level of names, and * stands for no slash
	}
	return p.Captures(path, path)
}

// find holds the pattern against names in their normal form.
func (p *Pattern) find(name, rel string, capture bool) (map[string]string, bool) {
	s := name
	if p.wide {
		s = rel
	}
	if p.exact && !(strings.HasSuffix(s, p.ending) && strings.HasPrefix(s, p.prefix)) {
		return nil, false
	}
	if p.simple {
		return nil, len(s) >= len(p.prefix)+len(p.ending)
	}
	if !capture || len(p.names) < 2 {
		return nil, p.re.MatchString(s)
	}
	m := p.re.FindStringSubmatchIndex(s)
	if m == nil {
		return nil, false
	}
	got := map[string]string{}
	for i, n := range p.names {
		if n == "" {
			continue
		}
		got[n] = ""
		if m[2*i] >= 0 {
			got[n] = s[m[2*i]:m[2*i+1]]
		}
	}
	return got, true
}
