package cli

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"

	"stilltide/internal/advice"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/ink"
	"stilltide/internal/ledger"
	"stilltide/internal/look"
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
	return a.jsonFlag(c)
}

func (a *app) why(path string, removed, all bool) error {
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
	w, err := advice.Explain(look.NewSet(f), l, absolute(path), removed, time.Now())
	if err != nil {
		return err
	}
	if a.json {
		if err := a.whyJSON(f, w); err != nil {
			return err
		}
	} else {
		a.whyText(f, w, all)
	}
	if w.Taker == nil {
		return &exitError{status: exitFound}
	}
	return nil
}

func (a *app) whyJSON(f *rule.File, w advice.Why) error {
	for _, r := range w.Reasons {
		line := struct {
			Rule       string           `json:"rule"`
			Fits       bool             `json:"fits"`
			Takes      bool             `json:"takes"`
			Conditions []plan.Condition `json:"conditions"`
			Settled    bool             `json:"settled"`
			Writers    []string         `json:"writers"`
			FileAfter  *string          `json:"file_after"`
		}{Rule: r.Rule.Name.S, Fits: r.Fits, Takes: r.Takes, Conditions: r.Conditions, Settled: w.Ready,
			Writers: writers(w)}
		if r.Rule == w.Taker && w.FileAfter != "" {
			line.FileAfter = &w.FileAfter
		}
		if err := a.printJSON(line); err != nil {
			return err
		}
	}
	return nil
}

func writers(w advice.Why) []string {
	names := []string{}
	for _, one := range w.Writers {
		names = append(names, fmt.Sprintf("%s (process %d)", ink.Clean(one.Program), one.PID))
	}
	return names
}

// whyText says the verdict first, then what the rule makes of the file that takes it or
// comes closest, then each other rule in a line.
func (a *app) whyText(f *rule.File, w advice.Why, all bool) {
	state := "is not there; as if it arrived now"
	if w.Facts.Exists {
		when := plan.Span(time.Since(w.Facts.Mod.Time())) + " ago"
		if w.Facts.Mod.Time().After(time.Now()) {
			when = w.Facts.Mod.Time().Format("2006-01-02 15:04")
		}
		state = fmt.Sprintf("%s, changed %s", humanize.IBytes(uint64(max(w.Facts.Size, 0))), when)
	}
	fmt.Fprintf(a.out, "%s: %s\n", a.style.Bold(display(short(f.Base, w.Path))), state)
	first := mainReason(w)
	a.verdict(f, w, first)
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
		return a.style.Good("takes it")
	case r.Fits && w.Taker == nil:
		return "would take it, as far as that is known"
	case r.Fits:
		return "would take it, but an earlier rule does"
	}
	return "does not take it"
}

// conditions shows one rule with all its conditions.
func (a *app) conditions(f *rule.File, w advice.Why, r advice.Reason) {
	fmt.Fprintf(a.out, "\n%s %s\n", a.style.Bold(r.Rule.Name.S), a.reply(w, r))
	wide := 0
	for _, c := range r.Conditions {
		wide = max(wide, len(c.Key))
	}
	for _, c := range r.Conditions {
		mark := a.style.Good("yes")
		if !c.Fits {
			mark = a.style.Bad("no ")
		}
		fmt.Fprintf(a.out, "  %s  %s  %s\n", mark, ink.Pad(c.Key, wide), a.compared(f, c))
	}
}

// others gives each other rule a line: the first of its conditions that is not met.
func (a *app) others(f *rule.File, w advice.Why, first int) {
	var rows [][]cell
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
		rows = append(rows, []cell{{text: r.Rule.Name.S}, {text: why}})
	}
	if len(rows) == 0 {
		return
	}
	fmt.Fprintln(a.out)
	a.table([]string{"OTHER RULES", "WHY NOT"}, rows, columns(a.out))
}

// compared puts the wanted value beside the one that was found.
func (a *app) compared(f *rule.File, c plan.Condition) string {
	want, got := c.Want, c.Got
	if c.Key == "watch" {
		want, got = strings.ReplaceAll(want, f.Base+"/", ""), short(f.Base, got)
	}
	if c.Fits {
		return fmt.Sprintf("%s: %s", ink.Clean(want), display(got))
	}
	return fmt.Sprintf("wanted %s, found %s", ink.Clean(want), a.style.Warn(display(got)))
}

// short is a condition that is not met, in a few words.
func (a *app) short(f *rule.File, c plan.Condition) string {
	if c.Key == "watch" {
		return "watches " + ink.Clean(strings.ReplaceAll(c.Want, f.Base+"/", ""))
	}
	return c.Key + ": " + a.compared(f, c)
}

// verdict reports whether a rule takes the file, whether it is ready, and what would be done.
func (a *app) verdict(f *rule.File, w advice.Why, first int) {
	if w.Taker == nil {
		fmt.Fprintln(a.out, a.style.Warn(noTaker(w, first)))
	} else {
		when := ""
		if w.Facts.Exists && !w.Ready {
			when = " when it is ready"
		}
		fmt.Fprintln(a.out, a.style.Good(fmt.Sprintf("The rule %s takes it%s; %s.", w.Taker.Name.S, when,
			ending(f, w))))
	}
	if w.Facts.Exists && !w.Ready {
		who := ""
		if names := writers(w); len(names) > 0 {
			who = ": " + strings.Join(names, ", ")
		}
		fmt.Fprintf(a.out, "Not ready yet: %s%s.\n", w.NotYet, who)
	}
	if w.Problem != "" {
		fmt.Fprintf(a.out, "%s\n", a.style.Bad("It would fail: "+ink.Clean(w.Problem)))
	}
	for _, s := range w.Steps {
		fmt.Fprintf(a.out, "Would %s\n", ink.Clean(strings.ReplaceAll(s, f.Base+"/", "")))
	}
	for _, text := range w.Clashes {
		fmt.Fprintln(a.out, a.style.Warn(ink.Clean(strings.ReplaceAll(text, f.Base+"/", ""))))
	}
}

// ending says where the file is afterwards.
func ending(f *rule.File, w advice.Why) string {
	switch {
	case w.Thrown != "":
		return "it is " + map[string]string{"deleted": "deleted", "to the trash": "thrown into the trash"}[w.Thrown]
	case w.FileAfter != "" && w.Problem != "":
		return "it ends in " + display(short(f.Base, w.FileAfter))
	case w.FileAfter != "":
		return "after success it is in " + display(short(f.Base, w.FileAfter))
	}
	return "it stays where it is"
}

// noTaker says why no rule takes the file, as far as one sentence can.
func noTaker(w advice.Why, first int) string {
	if first < 0 {
		return "No rule takes it: none watches its folder."
	}
	r := w.Reasons[first]
	if r.Handled != 0 {
		return fmt.Sprintf("No rule takes it: %s has handled it already and it has not changed since.",
			r.Rule.Name.S)
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
		fmt.Fprintln(a.out)
	}
	for _, j := range w.Jobs {
		fmt.Fprintf(a.out, "Earlier: job %d of %s, %s %s%s\n", j.ID, j.Rule,
			a.style.State(j.State, string(j.State)), clock(endOf(j), time.Now()), reasonOf(j))
	}
}

// endOf is when a job ended, or when it was taken if it is not over.
func endOf(j ledger.Job) time.Time {
	if j.Ended.IsZero() {
		return j.Taken
	}
	return j.Ended
}

func reasonOf(j ledger.Job) string {
	if j.Reason == "" {
		return ""
	}
	return ": " + ink.Clean(j.Reason)
}
