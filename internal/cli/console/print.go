package console

import (
	"fmt"
	"io"
	"os"
	"strings"

	"golang.org/x/term"

	"stilltide/internal/core/plan"
	"stilltide/internal/ink"
	"stilltide/internal/jsonlines"
)

// Cell is a text in a table; paint colours it after it was measured.
type Cell struct {
	Text  string
	Paint func(string) string
	Right bool
	Name  bool // of a file: its column is shortened less than others
	Whole bool // a word that is never shortened
}

// Table lines its columns up. On a terminal, columns that would make a row wider than that are
// shortened, the widest first; where not even that is enough, each row takes lines of its own.
func (a *App) Table(head []string, rows [][]Cell) {
	widths, least, names := make([]int, len(head)), make([]int, len(head)), make([]bool, len(head))
	for i, h := range head {
		widths[i], least[i] = ink.Width(h), max(ink.Width(h), narrowest)
	}
	for _, r := range rows {
		for i, c := range r {
			if widths[i] = max(widths[i], ink.Width(c.Text)); c.Right || c.Whole {
				least[i] = widths[i]
			}
			names[i] = names[i] || c.Name
		}
	}
	if !narrow(widths, least, names, a.Width(a.Out)) {
		a.apart(head, rows)
		return
	}
	var line strings.Builder
	for i, h := range head {
		right := len(rows) > 0 && rows[0][i].Right
		line.WriteString(align(h, widths[i], right, i == len(head)-1) + "  ")
	}
	fmt.Fprintln(a.Out, a.Style.Dim(strings.TrimRight(line.String(), " ")))
	for _, r := range rows {
		line.Reset()
		for i, c := range r {
			text := align(ink.Cut(c.Text, widths[i]), widths[i], c.Right, i == len(r)-1)
			if c.Paint != nil {
				text = c.Paint(text)
			}
			line.WriteString(text + "  ")
		}
		fmt.Fprintln(a.Out, strings.TrimRight(line.String(), " "))
	}
}

// narrowest is how narrow a column of texts may become.
const narrowest = 8

// apart shows each row in lines of its own: its first column, and below it the others by name.
func (a *App) apart(head []string, rows [][]Cell) {
	wide := a.Width(a.Out)
	for _, r := range rows {
		fmt.Fprintln(a.Out, a.Style.Bold(ink.Cut(r[0].Text, wide)))
		var pairs []string
		for i, c := range r[1:] {
			if c.Text != "-" && c.Text != "" {
				pairs = append(pairs, strings.ToLower(head[i+1])+" "+c.Text)
			}
		}
		fmt.Fprintf(a.Out, "    %s\n", ink.Block(strings.Join(pairs, " · "), wide, 4))
	}
}

func align(s string, to int, right, last bool) string {
	if right {
		return strings.Repeat(" ", max(0, to-ink.Width(s))) + s
	}
	if last {
		return s
	}
	return ink.Pad(s, to)
}

// narrow makes the widest columns smaller until the row fits; false if it cannot. One of names
// counts as half as wide as it is.
func narrow(widths, least []int, names []bool, most int) bool {
	weight := func(i int) int {
		if names[i] {
			return widths[i] / 2
		}
		return widths[i]
	}
	total := 2 * (len(widths) - 1)
	for _, w := range widths {
		total += w
	}
	for ; total > most; total-- {
		widest := -1
		for i, w := range widths {
			if w > least[i] && (widest < 0 || weight(i) > weight(widest)) {
				widest = i
			}
		}
		if widest < 0 {
			return false
		}
		widths[widest]--
	}
	return true
}

// Unlimited is the width of what is no terminal: nothing is shortened there.
const Unlimited = 1 << 30

// Width is how many columns a line may have.
func (a *App) Width(w io.Writer) int {
	f, ok := w.(*os.File)
	if !ok || a.Wide {
		return Unlimited
	}
	n, _, err := term.GetSize(int(f.Fd()))
	if err != nil || n <= 0 {
		return Unlimited
	}
	return max(n, 40)
}

// Filled prints a text in as many lines as it takes; all but the first are indented.
func (a *App) Filled(w io.Writer, indent int, text string) {
	a.Board.Print(w, ink.Fill(text, a.Width(w), indent)+"\n")
}

// PrintJSON prints a value as one JSON line.
func (a *App) PrintJSON(v any) error {
	return jsonlines.Write(a.Out, v)
}

// Display makes a name safe to show.
func Display(name string) string { return plan.Display(name) }
