package guide

import (
	"strings"

	tea "charm.land/bubbletea/v2"

	"stilltide/internal/ink"
)

// View draws the form.
func (m *model) View() tea.View {
	if m.done {
		return tea.NewView("")
	}
	lines := m.form()
	foot := []string{m.style().Dim(ink.Cut("Enter, ↑, ↓: move · → takes a proposal · Ctrl-S writes it · Esc cancels",
		m.width))}
	room := m.height - len(lines) - len(foot)
	lines = append(lines, m.picture(room)...)
	for len(lines) < m.height-len(foot) {
		lines = append(lines, "")
	}
	v := tea.NewView(strings.Join(append(lines[:m.height-len(foot)], foot...), "\n"))
	v.AltScreen = true
	v.WindowTitle = "stilltide rules add"
	return v
}

func (m *model) style() ink.Style { return ink.Style{On: !m.plain} }

// labelWidth is how wide the names of the fields are.
const labelWidth = 12

// empties say what a field means that is left empty.
var empties = [fields]string{files: "all", after: "it stays", failed: "it stays"}

// form is the fields, with a hint for the one that is filled in.
func (m *model) form() []string {
	st := m.style()
	lines := []string{st.Bold("A new rule"), ""}
	for f := range fields {
		label, value := labels[f], m.text[f]
		if f == with {
			if label = verbs[m.verb].asks; label == "" {
				continue
			}
		}
		if f == verb {
			value = "‹ " + verbs[m.verb].name + " ›"
		}
		mark, head := "  ", ink.Pad(label, labelWidth)
		if f == m.field {
			mark, head = "> ", st.Bold(head)
			if f != verb {
				value = m.withCursor(value)
			}
		} else {
			if value = ink.Cut(ink.Clean(value), m.width-labelWidth-4); value == "" {
				value = st.Dim(empties[f])
			}
		}
		lines = append(lines, mark+head+"  "+value)
	}
	space := strings.Repeat(" ", labelWidth+4)
	return append(lines, "", st.Dim(ink.Cut(space+m.hint(), m.width)), st.Dim(ink.Cut(space+m.offered(), m.width)))
}

// withCursor shows where the next letter goes, and the part of a long text around it.
func (m *model) withCursor(text string) string {
	runes := []rune(text)
	room := max(m.width-labelWidth-6, 8)
	from := max(0, min(m.cursor-room/2, len(runes)-room))
	shown := runes[from:min(len(runes), from+room)]
	at := m.cursor - from
	under, rest := " ", ""
	if at < len(shown) {
		under, rest = string(shown[at]), string(shown[at+1:])
	}
	if m.plain {
		return ink.Clean(string(shown[:at])) + "_" + ink.Clean(string(shown[at:]))
	}
	return ink.Clean(string(shown[:at])) + "\x1b[7m" + ink.Clean(under) + "\x1b[0m" + ink.Clean(rest)
}

// hint helps with the field that is filled in.
func (m *model) hint() string {
	text := hints[m.field]
	switch m.field {
	case with:
		text = verbs[m.verb].example
	case verb:
		text = "← and → choose"
	case folder:
		if m.lies != "" {
			text = m.lies
		}
	}
	return text
}

// offered shows the proposals for the field, the next one first.
func (m *model) offered() string {
	list := m.offers()
	if len(list) == 0 {
		return ""
	}
	at := m.next % len(list)
	var shown []string
	for i := range list {
		shown = append(shown, ink.Clean(list[(at+i)%len(list)]))
	}
	return "→ " + strings.Join(shown, "  ")
}

// picture is what the rule would do now.
func (m *model) picture(room int) []string {
	st := m.style()
	rule := strings.Repeat("─", m.width)
	if m.plain {
		rule = strings.Repeat("-", m.width)
	}
	lines := []string{st.Dim(rule)}
	if m.sight.Wrong != "" {
		for _, line := range strings.Split(ink.Block(m.sight.Wrong, m.width, 2), "\n") {
			lines = append(lines, st.Warn(line))
		}
		return lines[:min(len(lines), room)]
	}
	lines = append(lines, st.Bold(ink.Cut(m.sight.Count, m.width)))
	for _, line := range m.sight.Lines {
		lines = append(lines, ink.Cut("  "+ink.Clean(line), m.width))
	}
	if len(lines) > room && room > 0 {
		lines = append(lines[:room-1], st.Dim("  …"))
	}
	return lines
}
