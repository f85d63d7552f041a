package fill

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Unsafe reports whether a character may not be shown as it is: a control character
// (Unicode's category Cc), which a terminal may obey, or a format character (Cf) or a
// separator of lines, which may hide or turn round what stands beside it.
func Unsafe(r rune) bool {
	if r <= unicode.MaxASCII {
		return r < ' ' || r == 0x7f
	}
	return unicode.In(r, unicode.Cc, unicode.Cf, unicode.Zl, unicode.Zp)
}

// Plain makes a text that comes from outside safe to show, on a terminal, in a mail, a
// page or a note: what is unsafe is written as an escape (\x1b, \u202e), but for newlines
// and tabs; bytes that are no UTF-8 become U+FFFD.
func Plain(s string) string { return plain(s, "\n\t") }

// PlainLine is Plain for one line: newlines are written as \n.
func PlainLine(s string) string { return plain(s, "\t") }

func plain(s, kept string) string {
	if printable(s) {
		return s
	}
	var b strings.Builder
	for _, r := range strings.ToValidUTF8(s, "\uFFFD") {
		switch {
		case !Unsafe(r) || strings.ContainsRune(kept, r):
			b.WriteRune(r)
		case r == '\n':
			b.WriteString(`\n`)
		case r < 0x100:
			fmt.Fprintf(&b, `\x%02x`, r)
		default:
			fmt.Fprintf(&b, `\u%04x`, r)
		}
	}
	return b.String()
}

// printable reports whether a text has nothing but printable ASCII, as nearly all have.
func printable[T string | []byte](s T) bool {
	for i := range len(s) {
		if s[i] < 0x20 || s[i] > 0x7e {
			return false
		}
	}
	return true
}

// PlainJSON escapes what is unsafe in the strings of a JSON text, which says the same then
// (RFC 8259, 7).
func PlainJSON(text []byte) []byte {
	if printable(text) {
		return text
	}
	out := text[:0:0]
	for len(text) > 0 {
		r, size := utf8.DecodeRune(text)
		switch {
		case r < 0x7f || !Unsafe(r): // below the space, only what parts the lines
			out = append(out, text[:size]...)
		case r > 0xffff:
			r -= 0x10000
			out = fmt.Appendf(out, `\u%04x\u%04x`, 0xd800+r>>10, 0xdc00+r&0x3ff)
		default:
			out = fmt.Appendf(out, `\u%04x`, r)
		}
		text = text[size:]
	}
	return out
}
