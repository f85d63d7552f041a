package plan

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"stilltide/internal/core/fill"
)

// Failure is what a failure note says.
type Failure struct {
	Job      *Job // with File where the input is now
	Taken    string
	Attempts []Try
	Reason   string   // one sentence
	Output   []string // the last lines that were printed
	State    string   // the state folder
	Rules    string   // the rules file
}

// Try is one attempt in a failure note.
type Try struct {
	Started time.Time
	Ran     time.Duration
	Reason  string
}

func noteLine(label, text string) string { return fmt.Sprintf("%-10s %s\n", label, text) }

// IsNoteOf reports whether a text is the failure note of a job.
func IsNoteOf(text string, id int64) bool {
	return strings.Contains(text, "\n"+noteLine("Job", fmt.Sprint(id)))
}

// Note is the text beside an input in the failed folder: why this file
// failed, what was printed, how to run the command by hand and how to send
// the file round again.
func (f Failure) Note() string {
	var b strings.Builder
	line := func(label, text string) { b.WriteString(noteLine(label, text)) }
	fmt.Fprintf(&b, "%s\n\n", fill.Plain(f.Reason))
	line("File", Display(f.Taken))
	line("Rule", fmt.Sprintf("%s (%s)", f.Job.Rule.Name.S, f.Job.Rule.Pos))
	line("Job", fmt.Sprint(f.Job.ID))
	for i, t := range f.Attempts {
		text := fmt.Sprintf("%s, ran %s", t.Started.Format("2006-01-02 15:04:05"), Span(t.Ran))
		if t.Reason != "" && t.Reason != f.Reason {
			text += ": " + fill.PlainLine(t.Reason)
		}
		line(fmt.Sprintf("Attempt %d", i+1), text)
	}
	if len(f.Output) > 0 {
		b.WriteString("\nThe last lines that were printed:\n")
		for _, l := range f.Output {
			b.WriteString("    " + fill.PlainLine(l) + "\n")
		}
	} else if f.Job.Rule.Runs() {
		b.WriteString("\nNothing was printed.\n")
	}
	if hand := f.byHand(); len(hand) > 0 {
		b.WriteString("\nTo run it by hand:\n")
		for _, l := range hand {
			b.WriteString("    " + l + "\n")
		}
	}
	b.WriteString("\nTo retry it (the file goes back to where it came from):\n    " +
		fill.Quote([]string{"stilltide", "--config", f.Rules, "retry", fmt.Sprint(f.Job.ID)}) + "\n")
	return b.String()
}

// byHand lists the lines that do what the rule does, as far as programs do
// it; what else a step does stands there as a comment.
func (f Failure) byHand() []string {
	j := *f.Job
	j.At, j.lets = "", nil
	j.foreseen()
	lines := j.scratchByHand(f.State)
	programs := 0
	for i := range j.Rule.Steps {
		s := &j.Rule.Steps[i]
		if !s.Runs() {
			if text, err := j.Foretell(s, f.State); err == nil {
				lines = append(lines, "# "+text)
			}
			continue
		}
		c, err := j.Command(s, f.State)
		if err != nil {
			return nil
		}
		line := c.ByHand()
		if s.To != nil {
			if spot, err := j.Spot(s, j.Path()); err == nil {
				line += " > " + fill.QuoteWord(spot.Path())
			}
		}
		programs++
		lines = append(lines, line)
	}
	if programs == 0 {
		return nil
	}
	return lines
}

// scratchByHand gives the job a scratch folder that stays, and the lines that
// make it: the attempt's own is gone.
func (j *Job) scratchByHand(state string) []string {
	if !j.Rule.NeedsScratch() {
		return nil
	}
	j.Scratch = filepath.Join(state, "by-hand", fmt.Sprint(j.ID))
	lines := []string{fill.Quote([]string{"mkdir", "-p", j.Scratch})}
	if j.Files != nil {
		j.ListIn(j.Scratch)
		for format, list := range map[string]string{`'%s\n'`: j.List, `'%s\0'`: j.List0} {
			lines = append(lines, "printf "+format+" "+fill.Quote(j.Files)+" > "+fill.QuoteWord(list))
		}
		slices.Sort(lines[1:])
	}
	return lines
}
