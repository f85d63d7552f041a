package cli

import (
	"errors"
	"fmt"
	"os"
	"slices"
	"sort"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"stilltide/internal/advice"
	"stilltide/internal/core/rule"
	"stilltide/internal/ink"
	"stilltide/internal/look"
)

func (a *app) previewCommand() *cobra.Command {
	return a.jsonFlag(&cobra.Command{
		Use: "preview [PATH …]", Short: "What would happen with the files there now; touches nothing",
		Args: cobra.ArbitraryArgs,
		RunE: func(_ *cobra.Command, args []string) error { return a.preview(args) },
	})
}

func (a *app) preview(paths []string) error {
	f, err := a.loadRules()
	if err != nil {
		return err
	}
	l, err := a.readLedger(f)
	if err != nil {
		return err
	}
	if l != nil {
		defer l.Close()
	}
	for i := range paths {
		paths[i] = absolute(paths[i])
	}
	p := preview{a: a, f: f, unmatched: map[string][]string{}}
	err = advice.Preview(look.NewSet(f), l, paths, time.Now(), p.tell)
	if err != nil && !errors.As(err, new(look.NoAnswer)) {
		return err
	}
	p.progress("")
	if !a.json {
		p.print()
	}
	return err
}

// preview collects what is foreseen, and shows how far it is on a terminal.
type preview struct {
	a         *app
	f         *rule.File
	taken     []advice.Foreseen
	unmatched map[string][]string // files by reason
	seen      int
	last      time.Time
}

func (p *preview) tell(f advice.Foreseen) {
	p.seen++
	if p.a.json {
		p.a.printJSON(p.line(f))
		return
	}
	if f.Rule != nil {
		p.taken = append(p.taken, f)
	} else {
		p.unmatched[f.Reason] = append(p.unmatched[f.Reason], f.File)
	}
	if p.seen%256 == 0 {
		p.progress(fmt.Sprintf("%s looked at", plural(p.seen, "file")))
	}
}

// progress shows a text in one line of a terminal that is written again and again.
func (p *preview) progress(text string) {
	w, ok := p.a.err.(*os.File)
	if !ok || !term.IsTerminal(int(w.Fd())) || text != "" && time.Since(p.last) < 200*time.Millisecond {
		return
	}
	p.last = time.Now()
	fmt.Fprintf(w, "\r\x1b[K%s", text)
}

func (p *preview) line(f advice.Foreseen) any {
	line := struct {
		File      string   `json:"file"`
		Rule      *string  `json:"rule"`
		Reason    string   `json:"reason,omitempty"`
		Settled   bool     `json:"settled"`
		Steps     []string `json:"steps"`
		FileAfter *string  `json:"file_after"`
		SameName  string   `json:"same_name,omitempty"`
		Stage     int      `json:"stage,omitempty"`
		Fails     string   `json:"fails,omitempty"`
		Discards  string   `json:"discards,omitempty"`
	}{File: strings.ToValidUTF8(f.File, "\uFFFD"), Reason: f.Reason, Settled: f.Settled, Steps: f.Steps,
		SameName: strings.Join(f.Clashes, "; "), Stage: f.Stage, Fails: f.Fails, Discards: f.Thrown}
	if line.Steps == nil {
		line.Steps = []string{}
	}
	if f.Rule != nil {
		line.Rule = &f.Rule.Name.S
	}
	if f.FileAfter != "" {
		line.FileAfter = &f.FileAfter
	}
	return line
}

// endOf says in a word or a path where a file would be afterwards.
func (p *preview) endOf(t advice.Foreseen) cell {
	st := p.a.style
	switch {
	case t.Thrown != "":
		return cell{text: t.Thrown, paint: st.Bad}
	case t.Open:
		return cell{text: "?"}
	case t.Fails != "" && t.FileAfter == "":
		return cell{text: "fails, stays", paint: st.Bad}
	case t.Fails != "":
		return cell{text: "fails, " + display(short(p.f.Base, t.FileAfter)), paint: st.Bad}
	case t.FileAfter == "" && t.Rule.Processed != nil:
		return cell{text: "is there already"}
	case t.FileAfter == "":
		return cell{text: "stays"}
	}
	return cell{text: display(short(p.f.Base, t.FileAfter))}
}

// rows are the lines of one file: a line for each of its steps.
func (p *preview) rows(t advice.Foreseen) [][]cell {
	steps := slices.Clone(t.Steps)
	for i := range steps {
		steps[i] = ink.Clean(strings.ReplaceAll(steps[i], p.f.Base+"/", ""))
	}
	switch {
	case !t.Settled:
		steps = []string{"waits: a program is still writing"}
	case len(steps) == 0:
		steps = []string{"-"}
	}
	name := display(short(p.f.Base, t.File))
	if t.Stage > 0 {
		name = strings.Repeat("  ", t.Stage) + "then " + name
	}
	rows := [][]cell{{{text: name}, {text: t.Rule.Name.S, paint: p.a.style.Good}, {text: steps[0]}, p.endOf(t)}}
	for _, step := range steps[1:] {
		rows = append(rows, []cell{{}, {}, {text: step}, {}})
	}
	return rows
}

func (p *preview) print() {
	a := p.a
	var rows [][]cell
	now := 0
	for _, t := range p.taken {
		rows = append(rows, p.rows(t)...)
		if t.Stage == 0 {
			now++
		}
	}
	if len(rows) > 0 {
		a.table([]string{"FILE", "RULE", "STEPS", "FILE AFTER"}, rows, columns(a.out))
		fmt.Fprintln(a.out)
	}
	for _, t := range p.taken {
		texts := slices.Clone(t.Clashes)
		if t.Fails != "" {
			texts = append([]string{t.Fails}, texts...)
		}
		if len(texts) > 0 {
			fmt.Fprintln(a.out, display(short(p.f.Base, t.File)))
		}
		for _, text := range texts {
			fmt.Fprintf(a.out, "  %s\n", a.style.Warn(ink.Clean(strings.ReplaceAll(text, p.f.Base+"/", ""))))
		}
	}
	unmatched := 0
	for _, files := range p.unmatched {
		unmatched += len(files)
	}
	fmt.Fprintf(a.out, "%s would be taken, %s not. Nothing was touched.\n", plural(now, "file"),
		plural(unmatched, "file"))
	reasons := make([]string, 0, len(p.unmatched))
	for r := range p.unmatched {
		reasons = append(reasons, r)
	}
	sort.Slice(reasons, func(i, j int) bool { return len(p.unmatched[reasons[i]]) > len(p.unmatched[reasons[j]]) })
	for _, r := range reasons {
		files := p.unmatched[r]
		fmt.Fprintf(a.out, "\n%s: %s\n", a.style.Warn(r), plural(len(files), "file"))
		for i, f := range files {
			if i == 5 {
				fmt.Fprintf(a.out, "  … and %d more\n", len(files)-5)
				break
			}
			fmt.Fprintf(a.out, "  %s\n", display(short(p.f.Base, f)))
		}
	}
}
