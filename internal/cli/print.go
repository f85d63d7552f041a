package cli

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/dustin/go-humanize"
	"golang.org/x/term"

	"stilltide/internal/core/fill"
	"stilltide/internal/core/plan"
	"stilltide/internal/ink"
	"stilltide/internal/ledger"
)

// cell is a text in a table; paint colours it after it was measured.
type cell struct {
	text  string
	paint func(string) string
	right bool
}

// table lines its columns up. Columns that would make a row wider than most
// are cut, the widest first.
func (a *app) table(head []string, rows [][]cell, most int) {
	widths := make([]int, len(head))
	for i, h := range head {
		widths[i] = ink.Width(h)
	}
	for _, r := range rows {
		for i, c := range r {
			widths[i] = max(widths[i], ink.Width(c.text))
		}
	}
	narrow(widths, most)
	var line strings.Builder
	for i, h := range head {
		right := len(rows) > 0 && rows[0][i].right
		line.WriteString(align(h, widths[i], right, i == len(head)-1) + "  ")
	}
	fmt.Fprintln(a.out, a.style.Dim(strings.TrimRight(line.String(), " ")))
	for _, r := range rows {
		line.Reset()
		for i, c := range r {
			text := align(ink.Cut(c.text, widths[i]), widths[i], c.right, i == len(r)-1)
			if c.paint != nil {
				text = c.paint(text)
			}
			line.WriteString(text + "  ")
		}
		fmt.Fprintln(a.out, strings.TrimRight(line.String(), " "))
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

// narrow makes the widest columns smaller until the row fits.
func narrow(widths []int, most int) {
	total := func() int {
		sum := 2 * (len(widths) - 1)
		for _, w := range widths {
			sum += w
		}
		return sum
	}
	for total() > most {
		widest := 0
		for i, w := range widths {
			if w > widths[widest] {
				widest = i
			}
		}
		if widths[widest] <= 8 {
			return
		}
		widths[widest]--
	}
}

// columns is the width that output may use.
func columns(w io.Writer) int {
	if f, ok := w.(*os.File); ok {
		if n, _, err := term.GetSize(int(f.Fd())); err == nil && n > 0 {
			return min(max(n, 60), 200)
		}
	}
	return 100
}

func plural(n int, word string) string {
	if n == 1 {
		return "1 " + word
	}
	return humanize.Comma(int64(n)) + " " + word + "s"
}

func (a *app) printJSON(v any) error {
	return writeJSON(a.out, v)
}

// writeJSON writes a value in one line. It may be shown on a terminal.
func writeJSON(to io.Writer, v any) error {
	text, err := json.Marshal(v)
	if err == nil {
		_, err = to.Write(append(fill.PlainJSON(text), '\n'))
	}
	return err
}

// clock writes a time of today as a time, an older one as a date and a time.
func clock(t, now time.Time) string {
	if t.IsZero() {
		return ""
	}
	t = t.Local()
	if now.Sub(t) < 20*time.Hour && t.Sub(now) < 20*time.Hour {
		return t.Format("15:04:05")
	}
	return t.Format("2006-01-02 15:04")
}

// jobJSON is one job as a JSON line. Times are RFC 3339, durations seconds.
type jobJSON struct {
	ID         int64        `json:"id"`
	Rule       string       `json:"rule"`
	File       string       `json:"file"`
	Files      []string     `json:"files,omitempty"`       // of a batch or group
	FileBase64 string       `json:"file_base64,omitempty"` // the name's bytes, if it is not UTF-8
	State      ledger.State `json:"state"`
	Event      string       `json:"event"`
	Attempts   int          `json:"attempts"`
	Taken      *time.Time   `json:"taken_at"`
	Started    *time.Time   `json:"started_at"`
	Ended      *time.Time   `json:"ended_at"`
	WaitedS    float64      `json:"waited_s"`
	RanS       float64      `json:"ran_s"`
	Exit       *int         `json:"exit_code"`
	Reason     string       `json:"reason"`
	Result     string       `json:"result,omitempty"` // what its steps have to say
	FileNow    *string      `json:"file_now"`
	Size       int64        `json:"size"`
	Hash       string       `json:"hash,omitempty"`
}

func jobLine(j ledger.Job) jobJSON {
	out := jobJSON{
		ID: j.ID, Rule: j.Rule, File: strings.ToValidUTF8(j.File, "\uFFFD"), State: j.State, Event: string(j.Event),
		Attempts: j.Attempts,
		Taken:    timeOrNil(j.Taken), Started: timeOrNil(j.Started), Ended: timeOrNil(j.Ended),
		RanS: j.Ran.Seconds(),
		Exit: j.Exit, Reason: j.Reason, Result: j.Result, Size: j.Facts.Size, Hash: j.Hash,
	}
	if files := j.Files(); len(files) > 1 {
		for _, f := range files {
			out.Files = append(out.Files, strings.ToValidUTF8(f, "\uFFFD"))
		}
	}
	if !utf8.ValidString(j.File) {
		out.FileBase64 = base64.StdEncoding.EncodeToString([]byte(j.File))
	}
	if !j.Started.IsZero() {
		out.WaitedS = j.Started.Sub(j.Taken).Seconds()
	}
	if j.FileNow != "" {
		end := strings.ToValidUTF8(j.FileNow, "\uFFFD")
		out.FileNow = &end
	}
	return out
}

func timeOrNil(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	return &t
}

// display makes a name safe to show.
func display(name string) string { return plan.Display(name) }
