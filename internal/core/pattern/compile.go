package pattern

import (
	"regexp"
	"strings"
	"unicode/utf8"
)

// compiler turns a glob into the body of an RE2 expression, left to right.
type compiler struct {
	src string
	pos int
	lit []byte // the literal run that ends at pos

	prefix []byte // the literal run at the start
	opened bool   // something else than literal text was read
}

func (c *compiler) ending() string { return string(c.lit) }

func (c *compiler) fail(at int, message string) *Error {
	return &Error{Pattern: c.src, Offset: at, Message: message, Near: c.src[at:min(at+1, len(c.src))]}
}

// sequence reads up to one of the stop bytes (not consumed) or the end.
func (c *compiler) sequence(depth int, stop string) (string, error) {
	if depth > 20 {
		return "", c.fail(c.pos, "the pattern is nested too deeply")
	}
	var out strings.Builder
	for c.pos < len(c.src) {
		b := c.src[c.pos]
		if strings.IndexByte(stop, b) >= 0 {
			return out.String(), nil
		}
		piece, err := c.piece(depth, b)
		if err != nil {
			return "", err
		}
		out.WriteString(piece)
	}
	return out.String(), nil
}

func (c *compiler) piece(depth int, b byte) (string, error) {
	start := c.pos
	literal := !strings.ContainsRune("*?[{<", rune(b)) && depth == 0
	c.opened = c.opened || !literal || b == '/' && strings.HasPrefix(c.src[start:], "/**")
	switch b {
	case '*':
		return c.stars(), nil
	case '?':
		c.pos++
		c.lit = nil
		return `[^/]`, nil
	case '[':
		c.lit = nil
		return c.class()
	case '{':
		s, err := c.alternatives(depth)
		c.lit = nil
		return s, err
	case '<':
		s, err := c.capture(depth)
		c.lit = nil
		return s, err
	case '>', '}', ']':
		return "", c.fail(start, "this "+string(b)+" closes nothing; write \\"+string(b)+
			" for the character itself")
	case '\\':
		c.pos++
		if c.pos == len(c.src) {
			return "", c.fail(start, "the backslash at the end has nothing to act on")
		}
	case '/':
		if strings.HasPrefix(c.src[c.pos:], "/**") && c.pos+3 == len(c.src) {
			c.pos += 3
			c.lit = nil
			return `/.+?`, nil // what lies below, not the folder itself
		}
	}
	_, size := utf8.DecodeRuneInString(c.src[c.pos:])
	char := c.src[c.pos : c.pos+size]
	c.pos += size
	c.lit = append(c.lit, char...)
	if !c.opened {
		c.prefix = append(c.prefix, char...)
	}
	return regexp.QuoteMeta(char), nil
}

// stars reads a run of stars. Two that fill a segment cross folders.
func (c *compiler) stars() string {
	start := c.pos
	for c.pos < len(c.src) && c.src[c.pos] == '*' {
		c.pos++
	}
	c.lit = nil
	opens := start == 0 || c.src[start-1] == '/'
	closes := c.pos == len(c.src) || c.src[c.pos] == '/'
	if c.pos-start != 2 || !opens || !closes {
		return `[^/]*?`
	}
	if c.pos == len(c.src) {
		return `.*?`
	}
	c.pos++ // the slash belongs to the folders, of which there may be none
	return `(?:[^/]+/)*?`
}

// class reads [abc], [a-z], [!a-z]. A slash never fits.
func (c *compiler) class() (string, error) {
	start := c.pos
	c.pos++
	negate := false
	if c.pos < len(c.src) && (c.src[c.pos] == '!' || c.src[c.pos] == '^') {
		negate = true
		c.pos++
	}
	var set strings.Builder
	for first := true; ; first = false {
		if c.pos >= len(c.src) {
			return "", c.fail(start, "this [ has no ] to close it")
		}
		if c.src[c.pos] == ']' && !first {
			c.pos++
			break
		}
		lo, err := c.classChar(start)
		if err != nil {
			return "", err
		}
		hi := lo
		if c.pos+1 < len(c.src) && c.src[c.pos] == '-' && c.src[c.pos+1] != ']' {
			c.pos++
			if hi, err = c.classChar(start); err != nil {
				return "", err
			}
		}
		if hi < lo {
			return "", c.fail(start, "the range "+string(lo)+"-"+string(hi)+" runs backwards")
		}
		writeRange(&set, lo, hi)
	}
	if negate {
		return `[^/` + set.String() + `]`, nil
	}
	if set.Len() == 0 { // only a slash was named
		return `[^\x{0}-\x{10FFFF}]`, nil
	}
	return `[` + set.String() + `]`, nil
}

func (c *compiler) classChar(start int) (rune, error) {
	if c.pos < len(c.src) && c.src[c.pos] == '\\' {
		c.pos++
	}
	if c.pos >= len(c.src) {
		return 0, c.fail(start, "this [ has no ] to close it")
	}
	r, size := utf8.DecodeRuneInString(c.src[c.pos:])
	c.pos += size
	return r, nil
}

// writeRange adds lo-hi without the slash.
func writeRange(set *strings.Builder, lo, hi rune) {
	span := func(a, b rune) {
		if a > b {
			return
		}
		set.WriteString(`\x{` + hex(a) + `}`)
		if a != b {
			set.WriteString(`-\x{` + hex(b) + `}`)
		}
	}
	if lo <= '/' && '/' <= hi {
		span(lo, '/'-1)
		span('/'+1, hi)
		return
	}
	span(lo, hi)
}

func hex(r rune) string {
	const digits = "0123456789abcdef"
	if r == 0 {
		return "0"
	}
	var out []byte
	for ; r > 0; r >>= 4 {
		out = append([]byte{digits[r&15]}, out...)
	}
	return string(out)
}

func (c *compiler) alternatives(depth int) (string, error) {
	start := c.pos
	c.pos++
	var options []string
	for {
		s, err := c.sequence(depth+1, ",}")
		if err != nil {
			return "", err
		}
		options = append(options, s)
		if c.pos >= len(c.src) {
			return "", c.fail(start, "this { has no } to close it")
		}
		c.pos++
		if c.src[c.pos-1] == '}' {
			return `(?:` + strings.Join(options, `|`) + `)`, nil
		}
	}
}

func (c *compiler) capture(depth int) (string, error) {
	start := c.pos
	end := strings.IndexAny(c.src[start:], "=:>")
	if end < 0 {
		return "", c.fail(start, "this < has no > to close it")
	}
	name := c.src[start+1 : start+end]
	if !ValidName(name) {
		e := c.fail(start, "the capture name \""+name+
			"\" is not a plain word; use a-z, 0-9 and _, beginning with a letter")
		e.Near = c.src[start : start+end+1]
		return "", e
	}
	c.pos = start + end + 1
	if c.src[c.pos-1] == ':' {
		e := c.fail(start, "a capture's own pattern stands after an equals sign: <"+name+"=pattern>")
		e.Near = c.src[start:c.pos]
		return "", e
	}
	inner := `[^/]*?`
	if c.src[c.pos-1] == '=' {
		var err error
		if inner, err = c.sequence(depth+1, ">"); err != nil {
			return "", err
		}
		if c.pos >= len(c.src) {
			return "", c.fail(start, "this < has no > to close it")
		}
		c.pos++
	}
	return `(?P<` + name + `>` + inner + `)`, nil
}
