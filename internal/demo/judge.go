package demo

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"stilltide/internal/core/fill"
	"stilltide/internal/core/job"
)

// judge compares what is there with what must be there.
func (s *show) judge() error {
	s.expect("levels/NOR_2031-04-02.txt", "144 readings, 0 gaps")
	s.expect("levels/PIR_2031-04-02.txt", "141 readings, 3 gaps")
	s.expect("levels/SLU_2031-04-02.txt", "144 readings, 0 gaps")
	s.expect("levels/NOR_2031-04-03.txt", "144 readings, 0 gaps") // read whole, though it was written slowly
	s.expect("failed/gauge-SLU_2031-04-03.csv.failed.txt", "line 88: the level -99.99 at 14:20 is a sensor fault")
	s.expect("failed/gauge-SLU_2031-04-03.csv", "-99.99")
	s.expect("register.txt", "Gale warning at 14:20", odd)
	s.expect("slips/2031-04/"+odd, "Pilot boat")
	s.expect("arrivals/seal.jpg", "seal")
	s.expect("levels/SLU_2031-03-30.txt", "144 readings, 0 gaps") // out of the bundle
	s.expect("done/PIR/gauge-PIR_2031-04-02-2.csv", "12:00,1.11") // numbered beside the other
	s.expect("done/NOR/gauge-NOR_2031-04-02.csv", "time,level_m")
	s.expectGone("done/NOR/gauge-NOR_2031-04-02-2.csv") // the same content is not stored twice
	s.expect("surveys/07/summary.txt", "60 soundings, deepest -6.00 m")
	s.expect("surveys/07/survey-07.json", "Plover")
	s.expect("charts/chart-12.pgm", "96 64") // undone
	s.expect("charts/chart-13.pgm", "48 32")
	const failed = "gauge-readings: gauge-SLU_2031-04-03.csv failed"
	if told := s.told(); len(told) != 2 || told[0] != failed || !strings.HasPrefix(told[1], "Subject: "+failed) {
		s.wrong = append(s.wrong, fmt.Sprintf("the duty officer was told %q", told))
	}
	if err := s.expectJobs(); err != nil {
		return err
	}
	fmt.Fprintln(s.Out)
	if len(s.wrong) > 0 {
		for _, w := range s.wrong {
			fmt.Fprintln(s.Out, s.Style.Bad("wrong: ")+w)
		}
		return fmt.Errorf("%w; its folder is %s", ErrWrong, s.Folder)
	}
	s.say("Everything worked as expected. Look around:")
	fmt.Fprintf(s.Out, "    cd %s\n    cat stilltide.yaml register.txt levels/*\n    stilltide status\n    "+
		"stilltide jobs show 4\n    stilltide report --to report.html\n%s", fill.QuoteWord(s.Folder), s.fleetHint())
	return nil
}

func (s *show) expect(name string, texts ...string) {
	content, err := os.ReadFile(filepath.Join(s.Folder, name))
	if err != nil {
		s.wrong = append(s.wrong, name+" is not there")
		return
	}
	for _, t := range texts {
		if !strings.Contains(string(content), t) {
			s.wrong = append(s.wrong, fmt.Sprintf("%s does not hold %q", name, t))
		}
	}
}

func (s *show) expectGone(name string) {
	if _, err := os.Lstat(filepath.Join(s.Folder, name)); err == nil {
		s.wrong = append(s.wrong, name+" is there, but should not be")
	}
}

// expectJobs looks at the states and attempts in the ledger.
func (s *show) expectJobs() error {
	jobs, err := s.jobs(job.Filter{})
	if err != nil {
		return err
	}
	got := map[string]string{}
	for _, j := range jobs {
		state := string(j.State)
		if j.Attempts > 1 {
			state += ", tried again"
		}
		name := filepath.Base(j.File)
		if got[name] != "" {
			state += "; " + got[name]
		}
		got[name] = state
	}
	want := map[string]string{
		"gauge-NOR_2031-04-02.csv": "processed; processed", "gauge-PIR_2031-04-02.csv": "processed; processed",
		"gauge-SLU_2031-04-02.csv": "processed",
		"gauge-SLU_2031-04-03.csv": "failed", slow: "processed", "slip-0402-gale.txt": "processed, tried again",
		odd:                 "processed",
		"bundle-SLU-13.zip": "processed", "gauge-SLU_2031-03-30.csv": "processed",
		"gauge-SLU_2031-03-31.csv": "processed",
		"survey-07.json":           "processed", "chart-12.pgm": "reverted", "chart-13.pgm": "processed",
	}
	s.judgeFleet(want)
	for name, state := range want {
		if got[name] != state {
			s.wrong = append(s.wrong, fmt.Sprintf("the job of %s is %q, and must be %q", name, got[name], state))
		}
	}
	if len(got) != len(want) {
		s.wrong = append(s.wrong, fmt.Sprintf("there are %d jobs, and must be %d", len(got), len(want)))
	}
	return nil
}
