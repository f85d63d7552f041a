package foresee

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"stilltide/internal/advice"
	"stilltide/internal/cli/console"
	"stilltide/internal/core/fill"
	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/ink"
	"stilltide/internal/jsonlines"
	"stilltide/internal/look"
	"stilltide/internal/standing"
)

func (a *app) previewCommand() *cobra.Command {
	var only string
	var brief bool
	c := &cobra.Command{
		Use: "preview [PATH …]", Short: "What would happen with the files there now; touches nothing",
		Args: cobra.ArbitraryArgs,
		Long: `Shows what would be done with each file that is in the watched folders now, or below the
paths that are named: the rule, all steps, where the file would be afterwards, and what stands in
the way; then the files that no rule takes, and why. It touches nothing.

With --rule only that rule's files are shown; of a disabled rule, what it would do.`,
		RunE: func(_ *cobra.Command, args []string) error { return a.preview(args, only, brief) },
	}
	c.Flags().StringVar(&only, "rule", "", "only the files of this `RULE`, which may be disabled")
	c.Flags().BoolVar(&brief, "brief", false, "one line a file, without the steps")
	return a.JSONFlag(c)
}

func (a *app) preview(paths []string, only string, brief bool) error {
	f, err := a.LoadRules()
	if err != nil {
		return err
	}
	if only != "" && !console.KnowsRule(f, only) {
		return a.NoRule(f, only)
	}
	watcher, l, err := a.Ask(f)
	if err != nil {
		return err
	}
	if l != nil {
		defer l.Close()
	}
	a.PrintDiagnostics(a.Err, a.StyleErr, a.Forgotten(f))
	for i := range paths {
		paths[i] = console.At(f, paths[i])
	}
	how, err := a.Standing(f, nil, l, watcher)
	if err != nil {
		return err
	}
	p := preview{a: a, f: f, only: only, brief: brief, how: how, now: time.Now(), unmatched: map[string][]string{}}
	for _, r := range f.All() {
		if r.Name.S == only && !r.Enabled {
			r.Enabled, p.what = true, true
		}
	}
	err = advice.Preview(look.NewSet(f, withFolders(paths)...), l, paths, p.now, p.tell)
	if err != nil && !errors.As(err, new(plan.NoAnswer)) {
		return err
	}
	p.progress("")
	if !a.JSON {
		p.print()
	}
	return err
}

// withFolders are paths, and the folders in which they lie.
func withFolders(paths []string) []string {
	all := slices.Clone(paths)
	for _, path := range paths {
		all = append(all, filepath.Dir(path))
	}
	return all
}

// preview collects what is foreseen, and shows how far it is on a terminal.
type preview struct {
	a         *app
	f         *rule.File
	only      string // the one rule that is shown, "" for all
	brief     bool
	what      bool // that rule is disabled: what it would do
	how       standing.Standing
	now       time.Time
	taken     []advice.Foreseen
	unmatched map[string][]string // files by reason
	seen      int
	last      time.Time
}

func (p *preview) tell(f advice.Foreseen) {
	p.seen++
	if p.seen%256 == 0 {
		p.progress(fmt.Sprintf("%s looked at", plan.Plural(p.seen, "file")))
	}
	switch {
	case p.only != "" && (f.Rule == nil || f.Rule.Name.S != p.only):
	case p.a.JSON:
		p.a.PrintJSON(p.line(f))
	case f.Rule != nil:
		p.taken = append(p.taken, f)
	default:
		p.unmatched[f.Reason] = append(p.unmatched[f.Reason], f.File)
	}
}

// held says why the job of a foreseen file would not start yet.
func (p *preview) held(f advice.Foreseen) string {
	if f.Rule == nil || p.what {
		return ""
	}
	return p.how.Rests(f.Rule.Name.S, f.File, p.now)
}

// nextAttempt says when the job of a file tries again that has had its attempts; "" for another, and for one that is
// held besides.
func (p *preview) nextAttempt(f advice.Foreseen) string {
	if f.Job == nil || f.Job.State != job.Retrying || !f.Job.Due.After(p.now) || p.held(f) != "" {
		return ""
	}
	return fmt.Sprintf("job %d %s", f.Job.ID, standing.NextAttempt(f.Job, p.now))
}

// waits says why the job of a foreseen file would not start yet, be it that of the file which it would come of.
func (p *preview) waits(f advice.Foreseen) string {
	why := cmp.Or(p.held(f), p.nextAttempt(f))
	if why == "" && f.First != nil {
		if first := p.waits(*f.First); first != "" {
			return "first " + console.Short(p.f.Base, f.First.File) + ": " + first
		}
	}
	return why
}

// progress shows a text in one line of a terminal that is written again and again.
func (p *preview) progress(text string) {
	w, ok := p.a.Err.(*os.File)
	if !ok || !term.IsTerminal(int(w.Fd())) || text != "" && time.Since(p.last) < 200*time.Millisecond {
		return
	}
	p.last = time.Now()
	fmt.Fprintf(w, "\r\x1b[K%s", text)
}

func (p *preview) line(f advice.Foreseen) jsonlines.Foreseen {
	line := jsonlines.Foreseen{File: jsonlines.Name(f.File), Reason: f.Reason, Settled: f.NotYet == "",
		NotYet: f.NotYet, Held: p.waits(f),
		Steps: append(slices.Clone(f.Steps), f.From...), SameName: strings.Join(f.Clashes, "; "), Stage: f.Stage,
		Fails: f.Fails, Discards: f.Thrown,
		FileAfter: jsonlines.Place(f.FileAfter)}
	if line.Steps == nil {
		line.Steps = []string{}
	}
	if f.Rule != nil {
		line.Rule = &f.Rule.Name.S
	}
	return line
}

// endOf says in a word or a path where a file would be afterwards.
func (p *preview) endOf(t advice.Foreseen) console.Cell {
	st := p.a.Style
	switch {
	case t.Thrown != "":
		return console.Cell{Text: t.Thrown, Paint: st.Bad}
	case t.Open:
		return console.Cell{Text: "?"}
	case t.Fails != "" && t.FileAfter == "":
		return console.Cell{Text: "fails, stays", Paint: st.Bad}
	case t.Fails != "":
		return console.Cell{Text: "fails, " + console.Display(console.Short(p.f.Base, t.FileAfter)), Paint: st.Bad}
	case t.FileAfter == "" && t.Rule.Processed != nil:
		return console.Cell{Text: "is there already"}
	case t.FileAfter == "":
		return console.Cell{Text: "stays"}
	}
	return console.Cell{Text: console.Display(console.Short(p.f.Base, t.FileAfter))}
}

// shownStep is the sentence of a step as people read it: paths from the rules' folder on, and the
// attempt's own folder by its word.
func shownStep(f *rule.File, step string) string {
	step = strings.ReplaceAll(step, filepath.Join(f.StateFolder(), "scratch", "…"), "{scratch}")
	return ink.Clean(strings.ReplaceAll(step, f.Base+"/", ""))
}

// rows are the lines of one file: a line for each of its steps.
func (p *preview) rows(t advice.Foreseen) [][]console.Cell {
	steps := append(slices.Clone(t.Steps), t.From...)
	for i := range steps {
		steps[i] = shownStep(p.f, steps[i])
	}
	if why := p.held(t); why != "" {
		steps = slices.Insert(steps, 0, "held: "+why)
	} else if why := p.nextAttempt(t); why != "" {
		steps = slices.Insert(steps, 0, why)
	}
	if t.NotYet != "" {
		steps = slices.Insert(steps, 0, "not ready") // why is said below: that is longer than a cell may be
	}
	if len(steps) == 0 {
		steps = []string{"-"}
	}
	name := console.Display(console.Short(p.f.Base, t.File))
	if t.Stage > 0 {
		name = strings.Repeat("  ", t.Stage) + "then " + name
	}
	if p.brief {
		end := p.endOf(t)
		if t.NotYet != "" {
			end = console.Cell{Text: "not ready, " + end.Text}
		}
		return [][]console.Cell{{{Text: name, Name: true}, {Text: t.Rule.Name.S, Paint: p.a.Style.Good}, end}}
	}
	rows := [][]console.Cell{{{Text: name, Name: true}, {Text: t.Rule.Name.S, Paint: p.a.Style.Good}, {Text: steps[0]},
		p.endOf(t)}}
	for _, step := range steps[1:] {
		rows = append(rows, []console.Cell{{}, {}, {Text: step}, {}})
	}
	return rows
}

func (p *preview) print() {
	a := p.a
	var rows [][]console.Cell
	for _, t := range p.taken {
		rows = append(rows, p.rows(t)...)
	}
	if len(rows) > 0 {
		head := []string{"FILE", "RULE", "STEPS", "FILE AFTER"}
		if p.brief {
			head = []string{"FILE", "RULE", "FILE AFTER"}
		}
		a.Table(head, rows)
		fmt.Fprintln(a.Out)
	}
	p.obstacles()
	a.Filled(a.Out, 2, p.sum()+". Nothing was touched.")
	p.disabled()
	p.byReason(p.notReady())
	p.byReason(p.unmatched)
}

// sum counts the files that are there now, by what would become of them.
func (p *preview) sum() string {
	now, later, notYet, unmatched, held := 0, 0, 0, 0, map[string]int{}
	for _, t := range p.taken {
		switch {
		case t.Stage > 0:
		case t.NotYet != "":
			notYet++
		default:
			now++
			held[p.held(t)]++
			if p.nextAttempt(t) != "" {
				later++
			}
		}
	}
	for _, files := range p.unmatched {
		unmatched += len(files)
	}
	text := plan.Plural(now, "file") + " would be taken"
	if p.what {
		text += " if " + p.only + " were not disabled"
	}
	if p.only == "" {
		text += fmt.Sprintf(", %s not", plan.Plural(unmatched, "file"))
	}
	switch later {
	case 0:
	case 1:
		text += "; 1 of them waits for its next attempt"
	default:
		text += fmt.Sprintf("; %s of them wait for their next attempt", plan.Number(later))
	}
	switch notYet {
	case 0:
	case 1:
		text += "; 1 file is not ready"
	default:
		text += fmt.Sprintf("; %s files are not ready", plan.Number(notYet))
	}
	for _, why := range slices.Sorted(maps.Keys(held)) {
		if why != "" {
			text += fmt.Sprintf("; %s held: %s", plan.Plural(held[why], "file"), why)
		}
	}
	return text
}

// notReady lists the files that are not ready, by the reason.
func (p *preview) notReady() map[string][]string {
	all := map[string][]string{}
	for _, t := range p.taken {
		if t.NotYet != "" && t.Stage == 0 {
			why := "not ready: " + t.NotYet
			all[why] = append(all[why], t.File)
		}
	}
	return all
}

// obstacles tells file by file what would fail, and what is at its places already.
func (p *preview) obstacles() {
	a := p.a
	for _, t := range p.taken {
		texts := slices.Clone(t.Clashes)
		if t.Fails != "" {
			texts = append([]string{t.Fails}, texts...)
		}
		if len(texts) > 0 {
			fmt.Fprintln(a.Out, ink.Cut(console.Display(console.Short(p.f.Base, t.File)), a.Width(a.Out)))
		}
		for _, text := range texts {
			text = ink.Clean(strings.ReplaceAll(text, p.f.Base+"/", ""))
			fmt.Fprintf(a.Out, "  %s\n", a.Style.Warn(ink.Block(text, a.Width(a.Out), 2)))
		}
	}
}

// disabled names the rules that take nothing.
func (p *preview) disabled() {
	for _, r := range p.f.All() {
		if !r.Enabled && p.only == "" {
			p.a.Filled(p.a.Out, 2, fmt.Sprintf("The rule %s is disabled; preview --rule %s shows what it would do.",
				r.Name.S, fill.QuoteWord(r.Name.S)))
		}
	}
}

// maxNames is how many files of a kind are named on a terminal, where it is not the question.
const maxNames = 5

// byReason lists files by what keeps them.
func (p *preview) byReason(all map[string][]string) {
	a := p.a
	reasons := slices.Sorted(maps.Keys(all))
	slices.SortStableFunc(reasons, func(x, y string) int { return len(all[y]) - len(all[x]) })
	for _, r := range reasons {
		files := all[r]
		fmt.Fprintf(a.Out, "\n%s: %s\n", a.Style.Warn(r), plan.Plural(len(files), "file"))
		for i, f := range files {
			if i == maxNames && a.Width(a.Out) != console.Unlimited {
				fmt.Fprintf(a.Out, "  … and %s more\n", plan.Number(len(files)-maxNames))
				break
			}
			fmt.Fprintf(a.Out, "  %s\n", ink.Cut(console.Display(console.Short(p.f.Base, f)), a.Width(a.Out)-2))
		}
	}
}
