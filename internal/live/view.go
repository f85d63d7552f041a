package live

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/mattn/go-runewidth"

	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/ink"
)

// View draws the screen.
func (m *model) View() tea.View {
	var lines []string
	if m.output != nil {
		lines = m.outputLines()
	} else {
		lines = m.screen()
	}
	v := tea.NewView(strings.Join(lines[:min(len(lines), m.height)], "\n"))
	v.AltScreen = true
	v.WindowTitle = "stilltide"
	return v
}

func (m *model) ink() ink.Style { return ink.Style{On: !m.plain} }

// screen is the whole view: head, plot, three lists, keys.
func (m *model) screen() []string {
	st := m.ink()
	lines := append(m.headline(), m.counts())
	lines = append(lines, m.plot()...)
	foot := []string{ink.Cut(m.says, m.width), st.Dim(keys(m.width))}
	room := m.height - len(lines) - len(foot)
	for s, high := range m.share(room) {
		lines = append(lines, m.list(section(s), high)...)
	}
	for len(lines) < m.height-len(foot) {
		lines = append(lines, "")
	}
	lines = lines[:m.height-len(foot)]
	return append(lines, foot...)
}

func keys(wide int) string {
	if wide < 100 {
		return ink.Cut("↑↓ choose  enter output  p pause all  P rule  r retry  c cancel  q quit", wide)
	}
	return "↑↓ choose a job   enter what it prints   p pause all, or go on   P pause its rule   r retry   c " +
		"cancel   tab next list   q quit"
}

// headline answers: is it alive, and is anything wrong? It takes as many lines as it needs.
func (m *model) headline() []string {
	st := m.ink()
	now := time.Now().Format("15:04:05")
	text, paint := m.snap.Answer, st.Good
	if m.err != nil {
		text, paint = m.err.Error(), st.Bad
	} else if m.snap.Wrong {
		paint = st.Warn
	}
	room := max(m.width-len(now)-2, 1)
	lines := strings.Split(ink.Fill(ink.Clean(text), room, 2), "\n")
	for i := range lines {
		lines[i] = paint(ink.Pad(lines[i], room))
	}
	lines[0] += "  " + st.Dim(now)
	return lines
}

func (m *model) counts() string {
	st := m.ink()
	c := m.snap.Counts
	parts := []string{
		plan.Number(c[job.Running]) + " running", plan.Number(c[job.Queued]) + " queued",
	}
	for _, s := range []job.State{job.Retrying, job.Held} {
		if c[s] > 0 {
			parts = append(parts, plan.Number(c[s])+" "+string(s))
		}
	}
	if n := m.snap.Waiting; n > 0 {
		parts = append(parts, plan.Number(n)+" not settled")
	}
	parts = append(parts, plan.Number(c[job.Processed])+" processed")
	text := strings.Join(parts, " · ")
	if n := c[job.Failed]; n > 0 {
		failed := " · " + plan.Number(n) + " failed"
		return ink.Cut(text, m.width-len(failed)) + st.Bad(failed)
	}
	return ink.Cut(text, m.width)
}

// plot shows jobs a minute: one row, or four where there is room.
func (m *model) plot() []string {
	minutes := m.snap.Minutes
	if len(minutes) == 0 {
		return []string{""}
	}
	st := m.ink()
	most, now := slices.Max(minutes), minutes[len(minutes)-1]
	label := fmt.Sprintf("jobs a minute, last hour: %s now, at most %s", plan.Number(now), plan.Number(most))
	wide := m.width - 2
	if m.height < 40 {
		wide = m.width - len(label) - 4
	}
	wide = max(min(wide, len(minutes)), 1)
	if m.height < 40 {
		return []string{st.Good(Spark(minutes, wide)) + "  " + st.Dim(ink.Cut(label, max(m.width-wide-2, 1))), ""}
	}
	lines := []string{"", st.Dim(label)}
	for _, row := range bars(minutes[len(minutes)-wide:], 4) {
		lines = append(lines, st.Good(row))
	}
	return append(lines, "")
}

// bars draws values over several rows, with two columns each.
func bars(values []int, rows int) []string {
	top := max(slices.Max(values), 1)
	blocks := []rune(" ▁▂▃▄▅▆▇█")
	var lines []string
	for row := rows - 1; row >= 0; row-- {
		var b strings.Builder
		for _, v := range values {
			level := min(max(v*8*rows/top-8*row, 0), 8)
			if v > 0 && row == 0 {
				level = max(level, 1)
			}
			block := string(blocks[level])
			if v == 0 && row == 0 {
				block = "·" // the axis
			}
			b.WriteString(strings.Repeat(block, 2))
		}
		lines = append(lines, b.String())
	}
	return lines
}

// share gives each list its height: what runs first, then what waits, and the
// rest for what is over. A list without rows takes its heading and one line.
func (m *model) share(room int) [sections]int {
	want := func(s section, extra int) int { return max(len(m.rows(s))+extra, 1) + 2 } // heading and a blank line
	var high [sections]int
	high[running] = min(want(running, 0), max(room/3, 4))
	more := 0
	if m.snap.MoreOp > 0 {
		more = 1
	}
	high[open] = min(want(open, more), max((room-high[running])/2, 4))
	high[over] = max(room-high[running]-high[open], 0)
	return high
}

// list is one section: its heading and as many rows as fit, the selected one among them.
func (m *model) list(s section, high int) []string {
	st := m.ink()
	rows := m.rows(s)
	head := map[section]string{running: "RUNNING", open: "WAITING FOR THEIR TURN", over: "OVER, THE LAST FIRST"}[s]
	if m.snap.Paused && s == open {
		head += " (all rules are paused)"
	} else if n := len(m.snap.Resting); n > 0 && s == open {
		head += fmt.Sprintf(" (paused: %s)", strings.Join(m.snap.Resting, ", "))
	}
	lines := []string{st.Bold(ink.Cut(head, m.width))}
	fit := high - 2
	if len(rows) == 0 {
		return append(lines, st.Dim("  nothing"), "")
	}
	more := ""
	if hidden := len(rows) - fit + m.hidden(s); s == open && hidden > 0 {
		fit--
		more = fmt.Sprintf("  … and %s more", plan.Number(len(rows)-fit+m.hidden(s)))
	}
	fit = max(fit, 1)
	if m.at[s] < m.top[s] {
		m.top[s] = m.at[s]
	}
	if m.at[s] >= m.top[s]+fit {
		m.top[s] = m.at[s] - fit + 1
	}
	m.top[s] = min(m.top[s], max(len(rows)-fit, 0))
	l := m.layout()
	for i := m.top[s]; i < min(m.top[s]+fit, len(rows)); i++ {
		lines = append(lines, m.row(rows[i], l, s == m.in && i == m.at[s]))
	}
	if more != "" {
		lines = append(lines, st.Dim(more))
	}
	return append(lines, "")
}

func (m *model) hidden(s section) int {
	if s == open {
		return m.snap.MoreOp
	}
	return 0
}

// layout is how wide the columns are, the same in all lists.
type layout struct{ rule, file int }

func (m *model) layout() layout {
	var l layout
	for s := range sections {
		rows := m.rows(s)
		for _, r := range rows[min(m.top[s], len(rows)):min(m.top[s]+m.height, len(rows))] {
			l.rule, l.file = max(l.rule, ink.Width(r.Rule)), max(l.file, ink.Width(r.File))
		}
	}
	return layout{min(l.rule, max(m.width/5, 10)), min(l.file, max(m.width*3/10, 16))}
}

// row lines one job up: number, rule, file, state, time, note. What runs needs no state.
func (m *model) row(r Row, l layout, selected bool) string {
	st := m.ink()
	mark := "  "
	if selected {
		mark = "▸ "
	}
	head := mark + pad(strconv.FormatInt(r.ID, 10), 5) + "  " + ink.Pad(ink.Cut(r.Rule, l.rule), l.rule) + "  " +
		ink.Pad(ink.Cut(r.File, l.file), l.file) + "  "
	state := ""
	if r.State != job.Running {
		state = ink.Pad(string(r.State), 9) + " "
	}
	tail := pad(r.Time, 8) + "  "
	note := tailCut(ink.Clean(r.Note), max(m.width-ink.Width(head)-ink.Width(state)-ink.Width(tail), 0))
	if selected {
		head = st.Bold(head)
	}
	return head + st.State(r.State, state) + tail + st.Dim(note)
}

// tailCut shortens a text at its end.
func tailCut(s string, most int) string {
	if ink.Width(s) <= most {
		return s
	}
	return runewidth.Truncate(s, most, "…")
}

// pad puts spaces before a number.
func pad(s string, to int) string { return strings.Repeat(" ", max(to-ink.Width(s), 0)) + s }

// outputLines shows what a job printed.
func (m *model) outputLines() []string {
	st, v := m.ink(), m.output
	page := max(m.height-4, 1)
	if v.follow {
		v.top = max(len(v.lines)-page, 0)
	}
	lines := []string{st.Bold(ink.Cut(v.title, m.width)), ""}
	if len(v.lines) == 0 {
		lines = append(lines, st.Dim("It has printed nothing."))
	}
	for i := v.top; i < min(v.top+page, len(v.lines)); i++ {
		lines = append(lines, ink.Cut(strings.ReplaceAll(ink.Clean(v.lines[i]), "\t", "    "), m.width))
	}
	for len(lines) < m.height-2 {
		lines = append(lines, "")
	}
	where := fmt.Sprintf("lines %d to %d of %d", min(v.top+1, len(v.lines)), min(v.top+page, len(v.lines)),
		len(v.lines))
	if v.follow {
		where += ", following"
	}
	return append(lines, st.Dim(where), st.Dim(ink.Cut("↑↓ pgup pgdown home end  scroll   esc back", m.width)))
}
