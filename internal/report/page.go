// Package report shows past work: plots, and one self-contained HTML page.
package report

import (
	"bytes"
	_ "embed"
	"fmt"
	"html/template"
	"image/color"
	"io"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"stilltide/internal/core/fill"
	"stilltide/internal/core/history"
	"stilltide/internal/core/plan"
)

//go:embed page.html
var pageText string

// Data is what a page shows.
type Data struct {
	Summary   *history.Summary
	Rules     string      // the rules file
	Now       time.Time   // when it was made
	State     string      // one sentence: how the watcher stands now
	Wrong     bool        // that sentence tells of something wrong
	Unmatched []Unmatched // files that no rule takes now
	More      int         // how many of those are not listed
}

// Unmatched is a file that no rule takes, and why.
type Unmatched struct{ File, Why string }

// drawing is one figure as the page holds it: for wide and for narrow windows.
type drawing struct {
	Title      string
	Wide, Slim template.HTML
}

// Write writes the page as HTML.
func Write(w io.Writer, d Data) error {
	page, err := template.New("page").Funcs(template.FuncMap{
		"span": func(seconds float64) string { return Span(seconds) },
		"when": func(t time.Time) string { return t.Format("2 Jan 2006 15:04") },
		"size": func(n int64) string { return humanize.IBytes(uint64(max(n, 0))) },
		"name": plan.Display,
		"ran":  func(t time.Duration) string { return plan.Span(t) },
		"join": func(list []string) string { return strings.Join(list, ", ") },
		"n":    func(n int) string { return plan.Number(n) },
	}).Parse(pageText)
	if err != nil {
		return err
	}
	view := struct {
		Data
		Answer   string
		Drawings []drawing
		Light    template.CSS
		Dark     template.CSS
		Outcomes []string
		Lines    []line
		Reasons  []history.Reason
	}{Data: d, Answer: Answer(d.Summary), Outcomes: shown(d.Summary), Reasons: d.Summary.Reasons(),
		Light: properties(func(c colour) color.RGBA { return c.light }),
		Dark:  properties(func(c colour) color.RGBA { return c.dark })}
	for _, name := range d.Summary.Rules() {
		view.Lines = append(view.Lines, line{name, d.Summary.Rule(name)})
	}
	if d.Summary.Total.Jobs() > 0 {
		for _, f := range figures(d.Summary) {
			view.Drawings = append(view.Drawings, f.drawing())
		}
	}
	var text bytes.Buffer
	if err := page.Execute(&text, view); err != nil {
		return err
	}
	_, err = io.WriteString(w, fill.Plain(text.String())) // names and reasons come from outside
	return err
}

// line is a row of the table of rules.
type line struct {
	Name string
	*history.Figures
}

func (f figure) drawing() drawing {
	return drawing{f.title, template.HTML(drawSVG(f.chart(false), wide, f.high)),
		template.HTML(drawSVG(f.chart(true), slim, f.high))}
}

// shown lists the outcomes that occurred.
func shown(s *history.Summary) []string {
	var list []string
	for _, o := range history.Outcomes {
		if s.Total.Count[o] > 0 {
			list = append(list, o)
		}
	}
	return list
}

// Answer says in a sentence or two how it has been going.
func Answer(s *history.Summary) string {
	n := s.Total.Jobs()
	since := "since " + s.From.Format("2 Jan 2006 15:04")
	if n == 0 {
		return "No job ended " + since + "."
	}
	var parts []string
	for _, o := range shown(s) {
		parts = append(parts, plan.Number(s.Total.Count[o])+" "+o)
	}
	waited, ran := s.Total.Waited(), s.Total.Ran()
	return fmt.Sprintf("%s %s: %s. Median wait %s, median run %s; 95th percentile: wait %s, run %s.",
		plan.Plural(n, "job"), since, strings.Join(parts, ", "), Span(waited.Median), Span(ran.Median),
		Span(waited.P95), Span(ran.P95))
}

// Span writes seconds in a few characters.
func Span(seconds float64) string { return plan.Span(time.Duration(seconds * float64(time.Second))) }
