package console

import (
	"fmt"
	"io"
	"strings"

	"stilltide/internal/core/diag"
	"stilltide/internal/ink"
)

// PrintDiagnostics shows each diagnostic in one line, and below it the line of the file
// with what it is about underlined. On a terminal no line is longer than that.
func (a *App) PrintDiagnostics(w io.Writer, st ink.Style, diags diag.List) {
	wide := a.Width(w)
	var all strings.Builder
	for _, d := range diags {
		word := st.Bad("error")
		if d.Severity == diag.SeverityWarning {
			word = st.Warn("warning")
		}
		where := fmt.Sprintf("%s:%d:%d: ", a.Shown(d.File), d.Line, d.Column)
		text := d.Message
		if d.Hint != "" {
			text += " (" + d.Hint + ")"
		}
		text = ink.Fill(where+string(d.Severity)+": "+text, wide, 2)
		fmt.Fprintln(&all, strings.Replace(text, string(d.Severity)+":", word+":", 1))
		if d.Quote != "" {
			head := fmt.Sprintf("%5d", d.Line)
			quote, indent, about := underlined(d, wide-len(head)-3)
			fmt.Fprintf(&all, "%s | %s\n", head, ink.Clean(quote))
			fmt.Fprintf(&all, "%s | %s%s\n", strings.Repeat(" ", len(head)), indent, st.Bad(about))
		}
	}
	a.Board.Print(w, all.String())
}

// underlined is the quoted line, what stands below it before the underlining, and that. Of a
// line that has no room, the part around the column is shown.
func underlined(d diag.Diagnostic, room int) (quote, indent, about string) {
	runes := []rune(d.Quote)
	at := min(max(d.Column-1, 0), len(runes))
	long := max(ink.Width(d.About()), 1)
	if ink.Width(d.Quote) <= room {
		return d.Quote, before(runes[:at]), strings.Repeat("^", long)
	}
	from := max(min(at-room/3, len(runes)-room+2), 0)
	part := runes[from:min(from+room-2, len(runes))]
	quote = string(part)
	if from > 0 {
		quote, at = "…"+quote, at+1
	}
	if from+len(part) < len(runes) {
		quote += "…"
	}
	at = min(max(at-from, 0), len(part))
	return ink.Cut(quote, room), before([]rune(quote)[:at]), strings.Repeat("^", max(min(long, room-at-1), 1))
}

// before returns what stands before the underlining: the line's own tabs, so that it
// lands in the right column.
func before(runes []rune) string {
	var out strings.Builder
	for _, r := range runes {
		if r == '\t' {
			out.WriteByte('\t')
		} else {
			out.WriteString(strings.Repeat(" ", ink.Width(string(r))))
		}
	}
	return out.String()
}
