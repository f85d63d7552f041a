// Package guide is the form in a terminal by which a rule is written: a few fields, and beside
// them, all the time, what the rule would do with the files that are there now.
package guide

import (
	"context"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"stilltide/internal/draft"
)

// Sight is what a rule would do now.
type Sight struct {
	Wrong string   // why it cannot be used as it is, "" if it can
	Count string   // how many files it would take
	Lines []string // what it would do with the first of them
}

// Source is where the form looks.
type Source interface {
	// See says what a rule would do.
	See(r draft.Rule) Sight
	// Folders lists folders that a text may become.
	Folders(begun string) []string
	// Patterns proposes patterns for what lies in a folder.
	Patterns(folder string) []string
	// Lies says what lies in a folder, in a few words.
	Lies(folder string) string
}

// The fields, in their order.
const (
	folder = iota
	files
	verb
	with
	after
	failed
	name
	fields
)

var labels = [fields]string{"Folder", "Files", "Do", "", "Afterwards", "If it fails", "Name"}

var hints = [fields]string{
	"the folder to watch",
	"a pattern for their names; empty for all",
	"what is done with each",
	"",
	"the folder where it goes after success; empty: it stays",
	"the folder where it goes when all attempts failed; empty: it stays",
	"a word for the rule",
}

// verbs are what a new rule may do, what it needs is asked for, and an example of that.
var verbs = []struct{ name, asks, example string }{
	{"run a command", "Command", "./bin/work {file}; {name}, {stem} and others are filled, no shell reads them"},
	{"copy it", "Copy to", "a folder, such as archive/{modified:%Y}"},
	{"unpack it", "Unpack to", "a folder, such as unpacked/{stem}"},
	{"rename it", "New name", "such as {modified:%Y-%m-%d} {stem}.{ext}"},
	{"nothing but move it", "", ""},
}

type model struct {
	src    Source
	text   [fields]string
	cursor int
	field  int
	verb   int
	named  bool // the name was typed
	next   int  // which proposal comes next

	asked, seen int // looks that were asked for, and the newest that came
	sight       Sight
	lies        string
	proposals   []string

	width, height int
	plain         bool
	done, kept    bool
	keeping       bool // as soon as it is known that the rule can be used
	nameFor       func(folder string) string
}

type (
	saw struct {
		number    int
		sight     Sight
		lies      string
		proposals []string
	}
	pause struct{ number int }
)

// Run shows the form until the rule is to be written (ok) or the user cancels.
func Run(ctx context.Context, src Source, start draft.Rule, nameFor func(folder string) string, in io.Reader,
	out io.Writer) (r draft.Rule, ok bool, err error) {
	m := newModel(src, start, nameFor)
	_, err = tea.NewProgram(m, tea.WithContext(ctx), tea.WithInput(in), tea.WithOutput(out), tea.WithFPS(30)).Run()
	if ctx.Err() != nil {
		return r, false, nil
	}
	return m.rule(), m.kept, err
}

func newModel(src Source, start draft.Rule, nameFor func(string) string) *model {
	m := &model{src: src, nameFor: nameFor, width: 80, height: 24, plain: os.Getenv("NO_COLOR") != ""}
	m.text[folder], m.text[files] = start.Watch, strings.Join(start.Match, ", ")
	m.text[with], m.text[after], m.text[failed] = start.Run, start.Processed, start.Failed
	m.text[name], m.named = start.Name, start.Name != ""
	m.cursor = len([]rune(m.text[folder]))
	return m
}

// rule is what was chosen so far.
func (m *model) rule() draft.Rule {
	value := func(f int) string { return strings.TrimSpace(m.text[f]) }
	r := draft.Rule{Name: value(name), Watch: value(folder), Processed: value(after), Failed: value(failed)}
	for _, one := range strings.Split(value(files), ",") {
		if one = strings.TrimSpace(one); one != "" {
			r.Match = append(r.Match, one)
		}
	}
	if value(with) == "" {
		return r
	}
	switch m.verb {
	case 0:
		r.Run = value(with)
	case 1:
		r.Steps = []string{draft.Step("copy", value(with))}
	case 2:
		r.Steps = []string{draft.Step("unpack", value(with))}
	case 3:
		r.Steps = []string{draft.Step("rename", value(with))}
	}
	return r
}

// Init looks for the first time.
func (m *model) Init() tea.Cmd { return m.look() }

// lookAfter is how long nobody types before the form looks.
const lookAfter = 120 * time.Millisecond

// look looks a moment later what the rule would do, unless somebody types on.
func (m *model) look() tea.Cmd {
	m.asked++
	number := m.asked
	return tea.Tick(lookAfter, func(time.Time) tea.Msg { return pause{number} })
}

func (m *model) see(number int) tea.Cmd {
	r, at := m.rule(), m.text[folder]
	return func() tea.Msg {
		return saw{number, m.src.See(r), m.src.Lies(at), m.src.Patterns(at)}
	}
}

// Update takes what happened.
func (m *model) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		m.width, m.height = max(msg.Width, 40), max(msg.Height, 16)
	case pause:
		if msg.number == m.asked {
			return m, m.see(msg.number)
		}
	case saw:
		if msg.number >= m.seen {
			m.seen, m.sight, m.lies, m.proposals = msg.number, msg.sight, msg.lies, msg.proposals
		}
		if m.keeping && m.seen == m.asked {
			return m.keep()
		}
	case tea.PasteMsg:
		m.insert(strings.ReplaceAll(msg.Content, "\n", " "))
		return m, m.look()
	case tea.KeyPressMsg:
		return m.key(msg)
	}
	return m, nil
}

// key does what a key says.
func (m *model) key(msg tea.KeyPressMsg) (tea.Model, tea.Cmd) {
	switch key := msg.String(); key {
	case "esc", "ctrl+c":
		m.done = true
		return m, tea.Quit
	case "ctrl+s":
		return m.keep()
	case "enter":
		if m.field == fields-1 {
			return m.keep()
		}
		m.go1(1)
	case "tab", "down":
		m.go1(1)
	case "shift+tab", "up":
		m.go1(-1)
	case "left":
		return m.leftRight(-1)
	case "right":
		return m.leftRight(1)
	case "home", "ctrl+a":
		m.cursor = 0
	case "end", "ctrl+e":
		m.cursor = len([]rune(m.text[m.field]))
	case "backspace":
		if text := []rune(m.text[m.field]); m.cursor > 0 && m.field != verb {
			m.text[m.field] = string(slices.Delete(text, m.cursor-1, m.cursor))
			m.cursor--
			return m, m.changed()
		}
	case "delete":
		if text := []rune(m.text[m.field]); m.cursor < len(text) && m.field != verb {
			m.text[m.field] = string(slices.Delete(text, m.cursor, m.cursor+1))
			return m, m.changed()
		}
	case "ctrl+u":
		if m.field != verb {
			m.text[m.field], m.cursor = "", 0
			return m, m.changed()
		}
	default:
		if msg.Text != "" && m.field != verb {
			m.insert(msg.Text)
			return m, m.changed()
		}
	}
	return m, nil
}

// keep ends with the rule, if it can be used.
func (m *model) keep() (tea.Model, tea.Cmd) {
	if m.keeping = m.seen != m.asked; m.keeping {
		return m, m.see(m.asked)
	}
	if m.sight.Wrong == "" {
		m.kept, m.done = true, true
		return m, tea.Quit
	}
	return m, nil
}

func (m *model) insert(text string) {
	if m.field == verb {
		return
	}
	old := []rune(m.text[m.field])
	m.text[m.field] = string(old[:m.cursor]) + text + string(old[m.cursor:])
	m.cursor += len([]rune(text))
}

// changed notes that the field was changed by hand.
func (m *model) changed() tea.Cmd {
	m.next = 0
	switch {
	case m.field == name:
		m.named = m.text[name] != ""
	case m.field == folder && !m.named:
		m.text[name] = m.nameFor(m.text[folder])
	}
	return m.look()
}

// go1 goes to the next field, or the one before. What the verb does not need is left out.
func (m *model) go1(way int) {
	m.field = (m.field + way + fields) % fields
	if m.field == with && verbs[m.verb].asks == "" {
		m.field = (m.field + way + fields) % fields
	}
	m.cursor, m.next = len([]rune(m.text[m.field])), 0
}

// leftRight chooses the verb, moves the cursor, or takes the next proposal.
func (m *model) leftRight(way int) (tea.Model, tea.Cmd) {
	switch end := m.cursor == len([]rune(m.text[m.field])); {
	case m.field == verb:
		m.verb = (m.verb + way + len(verbs)) % len(verbs)
		m.text[with] = ""
		return m, m.look()
	case way < 0:
		m.cursor = max(m.cursor-1, 0)
	case !end:
		m.cursor++
	default:
		if list := m.offers(); len(list) > 0 {
			m.text[m.field] = list[m.next%len(list)]
			m.cursor = len([]rune(m.text[m.field]))
			next := m.next + 1
			cmd := m.changed()
			m.next = next
			return m, cmd
		}
	}
	return m, nil
}

// offers are the proposals for the field.
func (m *model) offers() []string {
	switch m.field {
	case folder:
		return m.src.Folders(m.text[folder])
	case files:
		return m.proposals
	case after:
		return []string{"done", "done/{modified:%Y-%m}"}
	case failed:
		return []string{"failed"}
	}
	return nil
}
