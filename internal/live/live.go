// Package live is the terminal view of a running watcher: what is running, what
// is waiting, what became of the last jobs, jobs per minute; and keys to pause,
// retry, cancel and see a job's output.
//
// It refreshes once a second and redraws only what changed, so that a slow
// terminal keeps up; it holds a bounded number of rows, however long the queue.
package live

import (
	"context"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	"stilltide/internal/core/job"

	tea "charm.land/bubbletea/v2"
)

// Row is one job in the view.
type Row struct {
	ID    int64
	Rule  string
	File  string // as it is shown
	State job.State
	Time  string // how long it runs, has waited, or when it ended
	Note  string // the last line it printed, why it failed, where it went
}

// Snapshot is what there is to see at one moment.
type Snapshot struct {
	Answer  string // is it alive, and is anything wrong?
	Wrong   bool
	Paused  bool // all rules are
	Resting []string
	Running []Row
	Open    []Row // waits, in the order in which it came
	MoreOp  int   // open jobs that are not among them
	Ended   []Row // the last first
	Counts  map[job.State]int
	Waiting int   // files that are not settled
	Minutes []int // jobs that ended in each of the last minutes, the current one last
}

// Source is where the view looks, and whom it asks to act. What it gives back
// is one sentence to be shown.
type Source interface {
	Look() (Snapshot, error)
	Retry(id int64) string
	Cancel(id int64) string
	Pause(rule string, paused bool) string
	Output(id int64) []string
}

// every is how often the view looks.
const every = time.Second

// Run shows the view until the user quits or the context ends, and leaves the terminal as it was.
func Run(ctx context.Context, src Source, in io.Reader, out io.Writer) error {
	_, err := tea.NewProgram(newModel(src), tea.WithContext(ctx), tea.WithInput(in), tea.WithOutput(out),
		tea.WithFPS(20)).Run()
	if ctx.Err() != nil {
		return nil
	}
	return err
}

// section is a part of the list.
type section int

const (
	running section = iota
	open
	over
	sections
)

type model struct {
	src    Source
	snap   Snapshot
	err    error
	width  int
	height int
	plain  bool // no colours

	chosen  bool    // the user has moved the selection: it stays on its job
	in      section // where the selection is
	at      [sections]int
	top     [sections]int
	says    string // what became of the last key
	confirm int64  // job whose cancelling waits for a yes
	output  *outputView
}

// outputView shows what one job printed.
type outputView struct {
	id     int64
	title  string
	lines  []string
	top    int
	follow bool
}

type (
	looked struct {
		snap Snapshot
		err  error
	}
	printed struct {
		id    int64
		lines []string
	}
	said string
	tick struct{}
)

func newModel(src Source) *model {
	return &model{src: src, width: 80, height: 24, plain: os.Getenv("NO_COLOR") != ""}
}

// Init looks for the first time.
func (m *model) Init() tea.Cmd { return m.look }

func (m *model) look() tea.Msg {
	snap, err := m.src.Look()
	return looked{snap, err}
}

func (m *model) readOutput() tea.Msg {
	if m.output == nil {
		return nil
	}
	return printed{m.output.id, m.src.Output(m.output.id)}
}

// Update takes what happened.
func (m *model) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		m.width, m.height = max(msg.Width, 20), max(msg.Height, 8)
	case onceMore:
		m.take(msg.looked)
	case looked:
		m.take(msg)
		return m, tea.Tick(every, func(time.Time) tea.Msg { return tick{} })
	case tick:
		if m.output != nil {
			return m, tea.Batch(m.look, m.readOutput)
		}
		return m, m.look
	case printed:
		if m.output != nil && m.output.id == msg.id {
			m.output.lines = msg.lines
		}
	case said:
		m.says = string(msg)
		return m, nil
	case tea.KeyPressMsg:
		return m.key(msg.String())
	}
	return m, nil
}

// take replaces the picture, and keeps the selection on its job.
func (m *model) take(l looked) {
	selected, had := m.selected()
	m.err = l.err
	if l.err != nil {
		return
	}
	m.snap = l.snap
	if had && m.chosen {
		for _, s := range []section{m.in, running, open, over} {
			if at := slices.IndexFunc(m.rows(s), func(r Row) bool { return r.ID == selected.ID }); at >= 0 {
				m.in, m.at[s] = s, at
				break
			}
		}
	}
	for s := range sections {
		m.at[s] = min(m.at[s], max(len(m.rows(s))-1, 0))
	}
	if !m.chosen {
		m.in, m.at = running, [sections]int{}
	}
	if len(m.rows(m.in)) == 0 {
		m.step(1)
	}
}

func (m *model) rows(s section) []Row {
	switch s {
	case running:
		return m.snap.Running
	case open:
		return m.snap.Open
	}
	return m.snap.Ended
}

func (m *model) selected() (Row, bool) {
	rows := m.rows(m.in)
	if m.at[m.in] >= len(rows) {
		return Row{}, false
	}
	return rows[m.at[m.in]], true
}

// move moves the selection by n rows, over the sections' borders.
func (m *model) move(n int) {
	for ; n != 0; n -= sign(n) {
		at := m.at[m.in] + sign(n)
		if at < 0 || at >= len(m.rows(m.in)) {
			m.step(sign(n))
			continue
		}
		m.at[m.in] = at
	}
}

// step goes to the next section that holds something, or stays.
func (m *model) step(dir int) {
	for s := m.in + section(dir); s >= 0 && s < sections; s += section(dir) {
		if n := len(m.rows(s)); n > 0 {
			m.in = s
			if m.at[s] = 0; dir < 0 {
				m.at[s] = n - 1
			}
			return
		}
	}
	if len(m.rows(m.in)) == 0 {
		for s := range sections {
			if len(m.rows(s)) > 0 {
				m.in, m.at[s] = s, 0
				return
			}
		}
	}
}

func sign(n int) int {
	if n < 0 {
		return -1
	}
	return 1
}

func (m *model) key(key string) (tea.Model, tea.Cmd) {
	if key == "ctrl+c" || key == "q" && m.output == nil {
		return m, tea.Quit
	}
	if m.confirm != 0 {
		id := m.confirm
		m.confirm, m.says = 0, ""
		if key == "y" {
			return m, m.ask(func() string { return m.src.Cancel(id) })
		}
		return m, nil
	}
	if m.output != nil {
		return m.outputKey(key)
	}
	page := max(m.height/3, 3)
	m.chosen = m.chosen || key != "p"
	switch key {
	case "up", "k":
		m.move(-1)
	case "down", "j":
		m.move(1)
	case "pgup":
		m.move(-page)
	case "pgdown", "space":
		m.move(page)
	case "home", "g":
		m.in, m.at, m.chosen = running, [sections]int{}, false
		if len(m.rows(running)) == 0 {
			m.step(1)
		}
	case "end", "G":
		m.move(1 << 12)
	case "tab":
		m.step(1)
	case "shift+tab":
		m.step(-1)
	case "p":
		paused := !m.snap.Paused
		return m, m.ask(func() string { return m.src.Pause("", paused) })
	}
	if row, ok := m.selected(); ok {
		return m.jobKey(key, row)
	}
	return m, nil
}

// jobKey takes the keys that are about the selected job.
func (m *model) jobKey(key string, row Row) (tea.Model, tea.Cmd) {
	switch key {
	case "P":
		paused := !slices.Contains(m.snap.Resting, row.Rule)
		return m, m.ask(func() string { return m.src.Pause(row.Rule, paused) })
	case "r":
		return m, m.ask(func() string { return m.src.Retry(row.ID) })
	case "c":
		if row.State.Final() {
			m.says = fmt.Sprintf("Job %d is over: there is nothing to cancel.", row.ID)
			return m, nil
		}
		m.confirm = row.ID
		m.says = fmt.Sprintf("Cancel job %d (%s)? y cancels it, any other key does not.", row.ID, row.File)
	case "enter", "o":
		m.output = &outputView{id: row.ID, title: fmt.Sprintf("Job %d: %s, %s", row.ID, row.Rule, row.File),
			follow: true}
		return m, m.readOutput
	}
	return m, nil
}

// ask has somebody else act, so that the view never waits.
func (m *model) ask(do func() string) tea.Cmd {
	return tea.Sequence(func() tea.Msg { return said(do()) }, m.lookOnce)
}

// lookOnce looks at once after a key, beside the regular looks.
func (m *model) lookOnce() tea.Msg {
	snap, err := m.src.Look()
	return onceMore{looked{snap, err}}
}

// onceMore is a look that is not followed by another.
type onceMore struct{ looked }

func (m *model) outputKey(key string) (tea.Model, tea.Cmd) {
	v := m.output
	page := max(m.height-4, 1)
	last := max(len(v.lines)-page, 0)
	if v.follow {
		v.top = last
	}
	switch key {
	case "esc", "q", "enter", "o", "backspace", "left":
		m.output = nil
		return m, nil
	case "up", "k":
		v.top--
	case "down", "j":
		v.top++
	case "pgup":
		v.top -= page
	case "pgdown", "space":
		v.top += page
	case "home", "g":
		v.top = 0
	case "end", "G":
		v.top = last
	}
	v.top = min(max(v.top, 0), last)
	v.follow = v.top == last
	return m, nil
}

// Spark draws values as a row of blocks, the highest as a full one.
func Spark(values []int, wide int) string {
	values = values[max(len(values)-wide, 0):]
	top := max(slices.Max(append([]int{0}, values...)), 1)
	blocks := []rune("·▁▂▃▄▅▆▇█")
	var b strings.Builder
	for _, v := range values {
		level := v * 8 / top
		if v > 0 {
			level = max(level, 1)
		}
		b.WriteRune(blocks[level])
	}
	return b.String()
}
