// Package fill parses templates with placeholders and fills them.
//
// A placeholder is a word in braces: `{stem}`. A date takes a strftime format,
// `{modified:%Y-%m-%d}`; filters change the value, `{station|lower}`. `{{` is
// a literal brace. Templates are parsed once, when the rules are loaded, so
// every error is found before a file moves; they are filled for each file.
//
// How a value is filled depends on where it goes. In a word of a command it is
// plain data. In a path it may not escape: a slash in it becomes `_`, and a
// value such as `..` is an error.
package fill

import (
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"
)

// Template is a text with placeholders.
type Template struct {
	src   string
	parts []part
}

// part is literal text, or one placeholder.
type part struct {
	text string
	ref  *Ref
}

// Ref is one placeholder of a template.
type Ref struct {
	Raw     string // as written, with its braces
	Word    string
	Format  string // strftime, "" if none
	Filters []Filter
	Offset  int // bytes from the start of the template
}

// Filter changes a filled value: lower, upper, title, slug, json, folders, pad:N.
type Filter struct {
	Name string
	Arg  int
}

// MakesFolders reports whether a slash in the value makes folders of its parts.
func (r *Ref) MakesFolders() bool {
	return slices.ContainsFunc(r.Filters, func(f Filter) bool { return f.Name == "folders" })
}

// Error says what is wrong with a template and where.
type Error struct {
	Offset  int
	Near    string // the part that is meant
	Message string
	Hint    string
}

func (e *Error) Error() string { return e.Message }

// Parse reads a template. The error is always an *Error.
func Parse(src string) (*Template, error) {
	t := &Template{src: src}
	var lit strings.Builder
	flush := func() {
		if lit.Len() > 0 {
			t.parts = append(t.parts, part{text: lit.String()})
			lit.Reset()
		}
	}
	for i := 0; i < len(src); {
		switch {
		case strings.HasPrefix(src[i:], "{{"), strings.HasPrefix(src[i:], "}}"):
			lit.WriteByte(src[i])
			i += 2
		case src[i] == '{':
			end := strings.IndexByte(src[i:], '}')
			if end < 0 {
				return nil, &Error{Offset: i, Near: src[i:], Message: "this { has no } to close it",
					Hint: "write {{ for a brace"}
			}
			before := byte(0)
			if i > 0 {
				before = src[i-1]
			}
			ref, err := parseRef(src[i:i+end+1], i, before)
			if err != nil {
				return nil, err
			}
			flush()
			t.parts = append(t.parts, part{ref: ref})
			i += end + 1
		default:
			lit.WriteByte(src[i])
			i++
		}
	}
	flush()
	return t, nil
}

func parseRef(raw string, offset int, before byte) (*Ref, error) {
	inner := raw[1 : len(raw)-1]
	fields := strings.Split(inner, "|")
	word, format, _ := strings.Cut(fields[0], ":")
	ref := &Ref{Raw: raw, Word: word, Format: format, Offset: offset}
	if !plainWord(word) {
		if offset > 0 && before == '$' {
			return nil, &Error{Offset: offset, Near: raw, Message: "$" + raw +
				": environment variables are not read here",
				Hint: "write ~ for your home folder, name others under vars:"}
		}
		return nil, &Error{Offset: offset, Near: raw, Message: raw + " is not a placeholder",
			Hint: "write {{ for a brace that is meant as itself"}
	}
	for _, f := range fields[1:] {
		filter, err := parseFilter(f)
		if err != nil {
			return nil, &Error{Offset: offset, Near: raw, Message: err.Error(),
				Hint: "the filters are lower, upper, title, slug, json, folders and pad:N"}
		}
		ref.Filters = append(ref.Filters, filter)
	}
	return ref, nil
}

func plainWord(w string) bool {
	if w == "" {
		return false
	}
	for i := range len(w) {
		c := w[i]
		letter := 'a' <= c && c <= 'z'
		if !letter && (i == 0 || c != '_' && (c < '0' || c > '9')) {
			return false
		}
	}
	return true
}

// String returns the template as it was written.
func (t *Template) String() string { return t.src }

// With puts fixed values in place of their placeholders: they count as
// written in the template itself.
func (t *Template) With(words map[string]string) (*Template, error) {
	if len(words) == 0 {
		return t, nil
	}
	filled := &Template{src: t.src}
	for _, p := range t.parts {
		if p.ref != nil {
			if value, ok := words[p.ref.Word]; ok {
				text, err := p.ref.render(Text(value))
				if err != nil {
					return nil, err
				}
				p = part{text: text}
			}
		}
		if last := len(filled.parts) - 1; p.ref == nil && last >= 0 && filled.parts[last].ref == nil {
			filled.parts[last].text += p.text
			continue
		}
		filled.parts = append(filled.parts, p)
	}
	return filled, nil
}

// Refs lists the placeholders from left to right.
func (t *Template) Refs() []*Ref {
	var refs []*Ref
	for _, p := range t.parts {
		if p.ref != nil {
			refs = append(refs, p.ref)
		}
	}
	return refs
}

// BareEnding returns the {ext} at the end of a name if no dot or other sign stands before it, else nil.
func (t *Template) BareEnding() *Ref {
	if t == nil || len(t.parts) < 2 {
		return nil
	}
	before, last := t.parts[len(t.parts)-2], t.parts[len(t.parts)-1].ref
	r, _ := utf8.DecodeLastRuneInString(before.text)
	if last == nil || last.Word != "ext" || before.ref == nil && !unicode.IsLetter(r) && !unicode.IsDigit(r) {
		return nil
	}
	return last
}

// Uses reports whether one of the words stands in the template.
func (t *Template) Uses(words ...string) bool {
	for _, r := range t.Refs() {
		for _, w := range words {
			if r.Word == w {
				return true
			}
		}
	}
	return false
}

// Leading returns the placeholder that the template begins with, nil if it begins with text.
func (t *Template) Leading() *Ref {
	if len(t.parts) == 0 {
		return nil
	}
	return t.parts[0].ref
}

// Fixed is the literal text before the first placeholder.
func (t *Template) Fixed() string {
	if len(t.parts) == 0 || t.parts[0].ref != nil {
		return ""
	}
	return t.parts[0].text
}

// Cut returns the part of a filled path that the template itself spells out, up
// to the last slash before its first placeholder, and the rest.
func (t *Template) Cut(filled string) (fixed, rest string) {
	if len(t.Refs()) == 0 {
		return filled, ""
	}
	head := t.Fixed()
	head = head[:strings.LastIndexByte(head, '/')+1]
	return head, strings.TrimPrefix(filled, head)
}

// Value is what a placeholder stands for.
type Value struct {
	Text string
	List []string  // set for {files}: one word each
	Time time.Time // set for dates: a format may follow
	Path bool      // a path: its slashes stay when it is filled into a path
}

// Text makes a plain value.
func Text(s string) Value { return Value{Text: s} }

// Lookup returns the value of a word.
type Lookup func(word string) (Value, error)

// Fill returns the text with all values put in.
func (t *Template) Fill(get Lookup) (string, error) {
	return t.fill(get, func(_ *Ref, _ Value, s string) (string, error) { return s, nil })
}

// FillPath fills a destination: no value can lead out of its place.
func (t *Template) FillPath(get Lookup) (string, error) {
	s, err := t.fill(get, keepInPlace)
	if err != nil {
		return "", err
	}
	if len(t.Refs()) > 0 {
		fixed := t.Fixed() // a .. that the rule itself says is meant
		fixed = fixed[:strings.LastIndexByte(fixed, '/')+1]
		for _, segment := range strings.Split(strings.TrimPrefix(s, fixed), "/") {
			if segment == ".." {
				return "", fmt.Errorf("%q would lead out of its folder when filled: %q", t.src, s)
			}
		}
	}
	return s, nil
}

func keepInPlace(r *Ref, v Value, s string) (string, error) {
	switch {
	case s == "":
		return "", fmt.Errorf("%s is empty for this file, so the destination has no name for it", r.Raw)
	case s == "." && v.Path: // {rel_folder} of a file that lies directly in the watched folder
		return s, nil
	case s == "." || s == "..":
		return "", fmt.Errorf("%s is %q for this file, which would lead out of the destination", r.Raw, s)
	case strings.IndexByte(s, 0) >= 0:
		return "", fmt.Errorf("%s holds a NUL character for this file, which no path can hold", r.Raw)
	case v.Path, r.Format != "":
		return s, nil
	case r.MakesFolders():
		return folders(r, s)
	}
	return strings.ReplaceAll(s, "/", "_"), nil
}

// folders keeps the slashes of a value that makes folders, and what stands between them.
func folders(r *Ref, s string) (string, error) {
	parts := slices.DeleteFunc(strings.Split(s, "/"), func(part string) bool { return part == "" || part == "." })
	if slices.Contains(parts, "..") || len(parts) == 0 {
		return "", fmt.Errorf("%s is %q for this file, which would lead out of the destination", r.Raw, s)
	}
	return strings.Join(parts, "/"), nil
}

func (t *Template) fill(get Lookup, keep func(*Ref, Value, string) (string, error)) (string, error) {
	var out strings.Builder
	for _, p := range t.parts {
		if p.ref == nil {
			out.WriteString(p.text)
			continue
		}
		v, err := get(p.ref.Word)
		if err != nil {
			return "", err
		}
		s, err := p.ref.render(v)
		if err != nil {
			return "", err
		}
		if s, err = keep(p.ref, v, s); err != nil {
			return "", err
		}
		out.WriteString(s)
	}
	return out.String(), nil
}
