package plan

import (
	"fmt"
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

// Note is the text beside an input in the failed folder: why this file
// failed, what was printed, how to run the command by hand and how to send
// the file round again.
func (f Failure) Note() string {
	var b strings.Builder
	line := func(label, text string) { fmt.Fprintf(&b, "%-10s %s\n", label, text) }
	fmt.Fprintf(&b, "%s\n\n", f.Reason)
	line("File", Display(f.Taken))
	line("Rule", fmt.Sprintf("%s (%s)", f.Job.Rule.Name.S, f.Job.Rule.Pos))
	line("Job", fmt.Sprint(f.Job.ID))
	for i, t := range f.Attempts {
		text := fmt.Sprintf("%s, ran %s", t.Started.Format("2006-01-02 15:04:05"), Span(t.Ran))
		if t.Reason != "" {
			text += ": " + t.Reason
		}
		line(fmt.Sprintf("Attempt %d", i+1), text)
	}
	if len(f.Output) > 0 {
		b.WriteString("\nThe last lines that were printed:\n")
		for _, l := range f.Output {
			b.WriteString("    " + Display(l) + "\n")
		}
	} else if len(f.Job.Rule.Steps) > 0 {
		b.WriteString("\nNothing was printed.\n")
	}
	if hand := f.byHand(); len(hand) > 0 {
		b.WriteString("\nTo run it by hand:\n")
		for _, l := range hand {
			b.WriteString("    " + l + "\n")
		}
	}
	b.WriteString("\nTo send it round again, put back where it came from:\n    " + fill.Quote([]string{"stilltide", "--rules", f.Rules, "retry", fmt.Sprint(f.Job.ID)}) + "\n")
	return b.String()
}

func (f Failure) byHand() []string {
	var lines []string
	for i := range f.Job.Rule.Steps {
		c, err := f.Job.Command(&f.Job.Rule.Steps[i], f.State)
		if err != nil {
			return nil
		}
		lines = append(lines, c.ByHand())
	}
	return lines
}

// Display makes a name safe to show: one that holds control characters or
// invalid UTF-8 is quoted as a shell would read it.
func Display(name string) string {
	for _, r := range name {
		if r < 0x20 || r == 0x7f || r == '\uFFFD' || 0x80 <= r && r < 0xa0 || r == '\u202e' || r == '\u2028' || r == '\u2029' {
			return fill.Quote([]string{name})
		}
	}
	return name
}

// Span writes a time span in a few characters: 8 ms, 2.4 s, 3m12s, 5h2m, 3d4h.
func Span(d time.Duration) string {
	switch {
	case d < time.Second:
		return fmt.Sprintf("%d ms", max(d.Milliseconds(), 0))
	case d < time.Minute:
		return fmt.Sprintf("%.1f s", d.Seconds())
	case d < time.Hour:
		return fmt.Sprintf("%dm%02ds", int(d.Minutes()), int(d.Seconds())%60)
	case d < 24*time.Hour:
		return fmt.Sprintf("%dh%02dm", int(d.Hours()), int(d.Minutes())%60)
	}
	return fmt.Sprintf("%dd%02dh", int(d.Hours())/24, int(d.Hours())%24)
}
