package foresee

import (
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"

	"stilltide/internal/advice"
	"stilltide/internal/cli/console"
	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/ink"
	"stilltide/internal/jsonlines"
	"stilltide/internal/look"
	"stilltide/internal/standing"
)

func (a *app) whyCommand() *cobra.Command {
	var removed, all bool
	c := &cobra.Command{
		Use: "why FILE", Short: "Why is this file taken, or not? Rule by rule, condition by condition",
		Args: cobra.ExactArgs(1),
		Long: `Asks every rule about the file, which need not exist. The verdict comes first: which rule takes it,
whether it is ready and who still writes, and what would be done. Then all conditions of that
rule, or of the one that comes closest, and a line for each other. The exit status is 1 if no
rule takes it.`,
		RunE: func(_ *cobra.Command, args []string) error { return a.why(args[0], removed, all) },
	}
	c.Flags().BoolVar(&removed, "removed", false, "ask as if the file had been removed")
	c.Flags().BoolVar(&all, "all", false, "show every condition of every rule")
	return a.JSONFlag(c)
}

func (a *app) why(path string, removed, all bool) error {
	f, err := a.LoadRules()
	if err != nil {
		return err
	}
	watcher, l, err := a.Ask(f)
	if err != nil {
		return err
	}
	if l != nil {
		defer l.Close()
	}
	now := time.Now()
	at := console.At(f, path)
	w, err := advice.Explain(look.NewSet(f, filepath.Dir(at)), l, at, removed, now)
	if err != nil {
		return err
	}
	asked := console.AskedOf(f, l, watcher, now)
	how, err := standing.OfRules(asked)
	if err != nil {
		return err
	}
	waits := how.Waiting(asked, w.Path, w.Open)
	if waits == "" && w.Taker != nil {
		waits = how.Rests(w.Taker.Name.S, w.Path, now)
	}
	if a.JSON {
		err = a.whyJSON(f, w, waits)
	} else {
		a.whyText(f, w, waits, all)
	}
	if err == nil && w.Taker == nil {
		err = &console.ExitError{Status: console.ExitFound}
	}
	return err
}

func (a *app) whyJSON(f *rule.File, w advice.Why, waits string) error {
	v := jsonlines.Verdict{File: jsonlines.Name(w.Path), Exists: w.Facts.Exists, Size: w.Facts.Size, Ready: w.Ready,
		NotYet: w.NotYet, Waits: waits, Steps: append(slices.Clone(w.Steps), w.From...),
		FileAfter: jsonlines.Place(w.FileAfter), Fails: w.Problem,
		SameName: w.Clashes, Sentence: verdictText(f, w, mainReason(w)), Jobs: []jsonlines.Job{}}
	if w.Facts.Exists {
		v.Modified = jsonlines.At(w.Facts.Mod.Time())
	}
	if w.Taker != nil {
		v.Taker = &w.Taker.Name.S
	}
	if v.Steps == nil {
		v.Steps = []string{}
	}
	if v.SameName == nil {
		v.SameName = []string{}
	}
	if w.PutBy != nil {
		by := jsonlines.JobOf(*w.PutBy)
		v.PutBy = &by
	}
	for _, j := range w.Jobs {
		v.Jobs = append(v.Jobs, jsonlines.JobOf(j))
	}
	err := a.PrintJSON(v)
	for _, r := range w.Reasons {
		line := jsonlines.Reason{Rule: r.Rule.Name.S, Fits: r.Fits, Takes: r.Takes, Handled: r.Handled,
			Conditions: []jsonlines.Condition{}, Settled: w.Ready, Writers: writers(w)}
		for _, c := range r.Conditions {
			line.Conditions = append(line.Conditions, jsonlines.ConditionOf(c))
		}
		if r.Rule == w.Taker {
			line.FileAfter = jsonlines.Place(w.FileAfter)
		}
		err = errors.Join(err, a.PrintJSON(line))
	}
	return err
}

func writers(w advice.Why) []string {
	names := []string{}
	for _, one := range w.Writers {
		names = append(names, fmt.Sprintf("%s (process %d)", ink.Clean(one.Program), one.PID))
	}
	return names
}

// WhyText says the verdict first, then what the rule makes of the file that takes it or
// comes closest, then each other rule in a line.
func WhyText(a *console.App, f *rule.File, w advice.Why, waits string, all bool) {
	(&app{a}).whyText(f, w, waits, all)
}

func (a *app) whyText(f *rule.File, w advice.Why, waits string, all bool) {
	state := "is not there; as if it arrived now"
	if w.Facts.Exists {
		when := plan.Span(time.Since(w.Facts.Mod.Time())) + " ago"
		if w.Facts.Mod.Time().After(time.Now()) {
			when = w.Facts.Mod.Time().Format("2006-01-02 15:04")
		}
		state = fmt.Sprintf("%s, changed %s", humanize.IBytes(uint64(max(w.Facts.Size, 0))), when)
	}
	name := ink.Cut(console.Display(console.Short(f.Base, w.Path)), a.Width(a.Out)-ink.Width(state)-2)
	fmt.Fprintf(a.Out, "%s: %s\n", a.Style.Bold(name), state)
	first := mainReason(w)
	a.putBy(f, w)
	a.verdict(f, w, waits, first)
	if first >= 0 {
		a.conditions(f, w, w.Reasons[first])
	}
	if !all {
		a.others(f, w, first)
	}
	for i, r := range w.Reasons {
		if all && i != first {
			a.conditions(f, w, r)
		}
	}
	a.earlier(w)
}

// farOff is how much a name that does not fit weighs beside another condition.
const farOff = 10

// mainReason returns the reason that answers the question: of the rule that takes the file,
// that has handled it, or that comes closest; -1 if none watches its folder.
func mainReason(w advice.Why) int {
	closest, fewest := -1, 0
	for i, r := range w.Reasons {
		if r.Takes || w.Taker == nil && r.Handled != 0 {
			return i
		}
		wrong := 0
		for _, c := range r.Conditions {
			switch {
			case !c.Fits && (c.Key == "match" || c.Key == "enabled"):
				wrong += farOff
			case !c.Fits:
				wrong++
			}
		}
		if looksThere(r) && (closest < 0 || wrong < fewest) {
			closest, fewest = i, wrong
		}
	}
	return closest
}

// looksThere reports whether the file lies where a rule looks.
func looksThere(r advice.Reason) bool {
	return !slices.ContainsFunc(r.Conditions, func(c plan.Condition) bool { return c.Key == "watch" && !c.Fits })
}

// reply is what a rule makes of the file, in a few words.
func (a *app) reply(w advice.Why, r advice.Reason) string {
	switch {
	case r.Handled != 0:
		return fmt.Sprintf("has handled it, as job %d", r.Handled)
	case r.Takes:
		return a.Style.Good("takes it")
	case r.Fits && w.Taker == nil:
		return "would take it, as far as that is known"
	case r.Fits:
		return "would take it, but an earlier rule does"
	}
	return "does not take it"
}

// conditions shows one rule with all its conditions.
func (a *app) conditions(f *rule.File, w advice.Why, r advice.Reason) {
	fmt.Fprintf(a.Out, "\n%s %s\n", a.Style.Bold(r.Rule.Name.S), a.reply(w, r))
	wide := 0
	for _, c := range r.Conditions {
		wide = max(wide, len(c.Key))
	}
	for _, c := range r.Conditions {
		mark := a.Style.Good("yes")
		if !c.Fits {
			mark = a.Style.Bad("no ")
		}
		fmt.Fprintf(a.Out, "  %s  %s  %s\n", mark, ink.Pad(c.Key, wide),
			ink.Block(a.compared(f, c), a.Width(a.Out), wide+9))
	}
}

// others gives each other rule a line: the first of its conditions that is not met.
func (a *app) others(f *rule.File, w advice.Why, first int) {
	var rows [][]console.Cell
	for i, r := range w.Reasons {
		if i == first {
			continue
		}
		why := a.reply(w, r)
		if !r.Takes && !r.Fits && r.Handled == 0 {
			for _, c := range r.Conditions {
				if !c.Fits {
					why = a.short(f, c)
					break
				}
			}
		}
		rows = append(rows, []console.Cell{{Text: r.Rule.Name.S}, {Text: why}})
	}
	if len(rows) == 0 {
		return
	}
	fmt.Fprintln(a.Out)
	a.Table([]string{"OTHER RULES", "WHY NOT"}, rows)
}

// compared puts the wanted value beside the one that was found.
func (a *app) compared(f *rule.File, c plan.Condition) string {
	want, got := c.Want, c.Got
	if c.Key == "watch" {
		want, got = strings.ReplaceAll(want, f.Base+"/", ""), console.Short(f.Base, got)
	}
	if c.Fits {
		return fmt.Sprintf("%s: %s", ink.Clean(want), console.Display(got))
	}
	return fmt.Sprintf("wanted %s, found %s", ink.Clean(want), console.Display(got))
}

// short is a condition that is not met, in a few words.
func (a *app) short(f *rule.File, c plan.Condition) string {
	if c.Key == "watch" {
		return "watches " + ink.Clean(strings.ReplaceAll(c.Want, f.Base+"/", ""))
	}
	return c.Key + ": " + a.compared(f, c)
}

// putBy says first, of a file in a processed or failed folder, which job put it there.
func (a *app) putBy(f *rule.File, w advice.Why) {
	j := w.PutBy
	if j == nil {
		return
	}
	text := fmt.Sprintf("Job %d of %s put it there, %s %s%s. It came as %s.", j.ID, j.Rule, j.State,
		plan.Clock(console.EndOf(*j), time.Now()), reasonOf(*j), console.Display(console.Short(f.Base, w.CameAs)))
	fmt.Fprintln(a.Out, a.Style.State(j.State, ink.Fill(text, a.Width(a.Out), 2)))
	again := "have it handled once more"
	if j.State == job.Failed {
		again = "send it round again"
	}
	a.Filled(a.Out, 2, fmt.Sprintf("Everything about that: stilltide jobs show %d. To %s: stilltide retry %d", j.ID,
		again, j.ID))
}

// verdict reports whether a rule takes the file, what it waits for, and what would be done.
func (a *app) verdict(f *rule.File, w advice.Why, waits string, first int) {
	paint := a.Style.Warn
	if w.Taker != nil {
		paint = a.Style.Good
	}
	fmt.Fprintln(a.Out, paint(ink.Fill(verdictText(f, w, first), a.Width(a.Out), 2)))
	if waits != "" && w.NotYet == "" { // what it settles for is said below
		fmt.Fprintln(a.Out, a.Style.Warn(ink.Fill("Now: "+ink.Clean(waits)+".", a.Width(a.Out), 2)))
	}
	if w.Facts.Exists && !w.Ready {
		who := ""
		if names := writers(w); len(names) > 0 {
			who = ": " + strings.Join(names, ", ")
		}
		a.Filled(a.Out, 2, fmt.Sprintf("Not ready yet: %s%s.", w.NotYet, who))
	}
	if w.Problem != "" {
		fmt.Fprintln(a.Out, a.Style.Bad(ink.Fill("It would fail: "+ink.Clean(w.Problem), a.Width(a.Out), 2)))
	}
	for _, s := range w.Steps {
		a.Filled(a.Out, 2, "Would "+shownStep(f, s))
	}
	for _, text := range w.From {
		a.Filled(a.Out, 2, text+".")
	}
	for _, text := range w.Clashes {
		text = ink.Clean(strings.ReplaceAll(text, f.Base+"/", ""))
		fmt.Fprintln(a.Out, a.Style.Warn(ink.Fill(text, a.Width(a.Out), 2)))
	}
}

// verdictText is the answer in one sentence.
func verdictText(f *rule.File, w advice.Why, first int) string {
	switch {
	case w.Taker == nil && w.PutBy != nil && first < 0:
		return "No rule takes it from there."
	case w.Taker == nil:
		return noTaker(w, first)
	}
	when := ""
	if w.Again != "" {
		when = " again, because " + strings.ReplaceAll(w.Again, f.Base+"/", "")
	}
	if w.Facts.Exists && !w.Ready {
		when += " when it is ready"
	}
	return fmt.Sprintf("The rule %s takes it%s; %s.", w.Taker.Name.S, when, ending(f, w))
}

// ending says where the file is afterwards.
func ending(f *rule.File, w advice.Why) string {
	switch {
	case w.Thrown != "":
		return "it is " + map[string]string{"deleted": "deleted", "to the trash": "thrown into the trash"}[w.Thrown]
	case w.FileAfter != "" && w.Skipped:
		return "its job is skipped, and it goes to " + console.Display(console.Short(f.Base, w.FileAfter))
	case w.FileAfter != "" && w.Problem != "":
		return "it ends in " + console.Display(console.Short(f.Base, w.FileAfter))
	case w.FileAfter != "":
		return "after success it is in " + console.Display(console.Short(f.Base, w.FileAfter))
	}
	return "it stays where it is"
}

// noTaker says why no rule takes the file, as far as one sentence can.
func noTaker(w advice.Why, first int) string {
	switch {
	case first < 0 && w.Sets != nil:
		return fmt.Sprintf("No rule takes it, but when it changes, %s handles all again.", w.Sets.Name.S)
	case first < 0:
		return "No rule takes it: none watches its folder."
	}
	r := w.Reasons[first]
	if r.Handled != 0 {
		since := "it has not changed since"
		if r.Stale {
			since = "that was before " + filepath.Base(r.Rule.Pos.File) + " was changed"
		}
		return fmt.Sprintf("No rule takes it: %s has handled it already (job %d), and %s. To have it handled "+
			"again: stilltide retry %d", r.Rule.Name.S, r.Handled, since, r.Handled)
	}
	var wrong []string
	for _, c := range r.Conditions {
		if !c.Fits {
			wrong = append(wrong, c.Key)
		}
	}
	if len(wrong) == 0 && !w.Facts.Exists {
		return fmt.Sprintf("Whether %s takes it can only be told when it is there.", r.Rule.Name.S)
	}
	if len(wrong) == 0 {
		return "No rule takes it."
	}
	return fmt.Sprintf("No rule takes it. %s comes closest; against it: %s.", r.Rule.Name.S,
		strings.Join(wrong, ", "))
}

// earlier lists what was done with the file before.
func (a *app) earlier(w advice.Why) {
	if len(w.Jobs) > 0 {
		fmt.Fprintln(a.Out)
	}
	for _, j := range w.Jobs {
		if w.PutBy != nil && j.ID == w.PutBy.ID || w.Open != nil && j.ID == w.Open.ID {
			continue // told of above
		}
		text := fmt.Sprintf("Earlier: job %d of %s, %s %s%s", j.ID, j.Rule, j.State,
			plan.Clock(console.EndOf(j), time.Now()), reasonOf(j))
		fmt.Fprintln(a.Out, a.Style.State(j.State, ink.Fill(text, a.Width(a.Out), 4)))
	}
}

func reasonOf(j job.Job) string {
	if j.Reason == "" {
		return ""
	}
	return ": " + ink.Clean(j.Reason)
}
