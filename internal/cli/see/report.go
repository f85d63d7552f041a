package see

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"stilltide/internal/advice"
	"stilltide/internal/cli/console"
	"stilltide/internal/core/diag"
	"stilltide/internal/core/history"
	"stilltide/internal/core/job"
	"stilltide/internal/core/rule"
	"stilltide/internal/jsonlines"
	"stilltide/internal/ledger"
	"stilltide/internal/look"
	"stilltide/internal/report"
)

// reportName is the page's name where none is given and the output is a terminal.
const reportName = "stilltide-report.html"

func (a *app) reportCommand() *cobra.Command {
	var since, to, png string
	c := &cobra.Command{
		Use: "report", Short: "How it has been going: one HTML page with plots",
		Long: `Makes one HTML page that needs nothing beside itself: jobs over time, waiting and running
times, rule by rule, failures by reason, the slowest files, and what no rule takes. It goes
to standard output, or to the file of --to; on a terminal to ` + reportName + `.

With --png the plots alone are written as pictures into a folder.`,
		RunE: func(*cobra.Command, []string) error { return a.report(since, to, png) },
	}
	c.Flags().StringVar(&since, "since", "7d", "jobs that ended in the last `TIME`, such as 12h or 30d")
	c.Flags().StringVar(&to, "to", "", "write the page to this `FILE`")
	c.Flags().StringVar(&png, "png", "", "write the plots as PNG files into this `FOLDER`, and no page")
	return a.JSONFlag(c)
}

func (a *app) report(since, to, png string) error {
	to, png = console.AtHome(to), console.AtHome(png)
	span, err := rule.ParseDuration(since)
	if err != nil || span <= 0 {
		return console.Usage("--since: %q is not a time; write a number with its unit, such as 12h or 30d", since)
	}
	f, diags, err := a.ReadRules()
	if err != nil {
		return err
	}
	l, err := a.ReadLedger(f)
	if err != nil {
		return err
	}
	if l == nil {
		return console.Found("there is no ledger yet in " + a.Shown(f.StateFolder()) + "; stilltide watch makes one")
	}
	defer l.Close()
	now := time.Now()
	summary, err := summarize(l, now.Add(-span), now)
	if err != nil {
		return err
	}
	if a.JSON {
		return a.reportLines(f, diags, l, summary, now)
	}
	if png != "" {
		names, err := report.PNG(summary, png)
		for _, name := range names {
			fmt.Fprintln(a.Out, console.Display(name))
		}
		return err
	}
	page, err := a.page(f, diags, l, summary, now)
	if err != nil {
		return err
	}
	if out, ok := a.Out.(*os.File); ok && to == "" && term.IsTerminal(int(out.Fd())) {
		to = reportName
	}
	if to == "" {
		_, err = a.Out.Write(page)
		return err
	}
	if err := os.WriteFile(to, page, 0o666); err != nil {
		return err
	}
	fmt.Fprintf(a.Err, "%s\nThe page is %s; open it in a browser.\n", report.Answer(summary), a.Shown(to))
	return nil
}

// summarize sums up the jobs that ended in a time. It begins where something
// happened, so that a young ledger does not show a week of nothing.
func summarize(l *ledger.Ledger, from, to time.Time) (*history.Summary, error) {
	first, err := l.FirstEnded(from)
	if err != nil {
		return nil, err
	}
	if !first.IsZero() {
		from = later(from, first.Add(-to.Sub(first)/20))
	}
	s := history.New(from, to)
	return s, l.EachEnded(from, func(j job.Job) {
		s.Add(history.Job{ID: j.ID, Rule: j.Rule, File: j.File, Outcome: string(j.State), Reason: j.Reason,
			Taken: j.Taken, Started: j.Started, Ended: j.Ended, Ran: j.Ran, Size: j.Facts.Size})
	})
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

// maxUnmatched bounds the files on the page that no rule takes.
const maxUnmatched = 50

// page makes the page, with what the watcher and the folders say now.
func (a *app) page(f *rule.File, diags diag.List, l *ledger.Ledger, s *history.Summary,
	now time.Time) ([]byte, error) {
	d := report.Data{Summary: s, Rules: f.Path, Now: now}
	how, err := a.Standing(f, diags, l, a.Running(f))
	if err != nil {
		return nil, err
	}
	d.State, d.Wrong = how.Watcher.Headline, !how.Watcher.Well()
	if diags.Failed() {
		// what no rule takes cannot be told
	} else if err := advice.Preview(look.NewSet(f), l, nil, now, func(p advice.Foreseen) {
		if !p.Unmatched {
			return
		}
		if len(d.Unmatched) == maxUnmatched {
			d.More++
			return
		}
		d.Unmatched = append(d.Unmatched, report.Unmatched{File: p.File, Why: p.Reason})
	}); err != nil {
		return nil, err
	}
	var page bytes.Buffer
	err = report.Write(&page, d)
	return page.Bytes(), err
}

// reportLines prints the report as JSON lines: rules, failures that are alike, and the files
// that no rule takes.
func (a *app) reportLines(f *rule.File, diags diag.List, l *ledger.Ledger, s *history.Summary,
	now time.Time) error {
	var err error
	for _, name := range s.Rules() {
		r := s.Rule(name)
		waited, ran := r.Waited(), r.Ran()
		err = errors.Join(err, a.PrintJSON(jsonlines.Figures{Rule: name, Jobs: r.Jobs(), Outcomes: r.Count,
			WaitedMedian: waited.Median, Waited95: waited.P95, RanMedian: ran.Median, Ran95: ran.P95}))
	}
	for _, r := range s.Reasons() {
		err = errors.Join(err, a.PrintJSON(jsonlines.Failure{Failure: r.Text, Count: r.Count, Rules: r.Rules,
			LastJob: r.Last.ID, LastAt: r.Last.Ended, File: jsonlines.Name(r.Last.File)}))
	}
	if err != nil || diags.Failed() {
		return err
	}
	return advice.Preview(look.NewSet(f), l, nil, now, func(p advice.Foreseen) {
		if p.Unmatched {
			err = errors.Join(err, a.PrintJSON(jsonlines.Unmatched{File: jsonlines.Name(p.File), Why: p.Reason}))
		}
	})
}
