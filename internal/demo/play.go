package demo

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/mail"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"time"

	"stilltide/internal/core/job"
	"stilltide/internal/core/notice"
	"stilltide/internal/core/plan"
	"stilltide/internal/ink"
	"stilltide/internal/ledger"
	"stilltide/internal/standin"
)

// Options are what a demo is given.
type Options struct {
	Until  context.Context // ended when the demo is to end before it is over
	Folder string          // an empty one
	Server string          // the program of an engine for other machines, "" for none
	Out    io.Writer
	Style  ink.Style
	Run    func(args ...string) error // runs a command of the program
}

// ErrEnded says that the demo was ended before it was over.
var ErrEnded = errors.New("the demo was ended before it was over")

// ErrWrong says that something did not turn out as it must. What it was has been printed.
var ErrWrong = errors.New("the demo did not work as expected")

// show is a demo under way.
type show struct {
	Options
	watcher *exec.Cmd
	office  *standin.Webhook
	post    *standin.Mail
	printed sync.WaitGroup
	wrong   []string
	fleet   *lent // nil without other machines
}

// Play runs the whole example: it lays out the office, runs the real watcher on it, drops files in,
// shows what happens, and compares that with what must be.
func Play(o Options) error {
	if err := Write(o.Folder); err != nil {
		return fmt.Errorf("the demo's folder cannot be written: %w", err)
	}
	s := &show{Options: o}
	if err := s.open(); err != nil {
		return err
	}
	defer s.office.Close()
	defer s.post.Close()
	s.say("The harbour office at Kelder Sound, in %s", o.Folder)
	defer s.closeFleet()
	if o.Server != "" {
		if err := s.openFleet(o.Server); err != nil {
			return err
		}
		if err := errors.Join(s.lend("kelder2"), s.lend("kelder3")); err != nil {
			return err
		}
	}
	if err := s.start(); err != nil {
		return err
	}
	playErr := s.play()
	if err := errors.Join(playErr, s.stop()); err != nil {
		return err
	}
	if s.Until.Err() != nil {
		return ErrEnded
	}
	if err := s.results(); err != nil {
		return err
	}
	return s.judge()
}

// rules is the rules file of the office.
func (s *show) rules() string { return filepath.Join(s.Folder, "stilltide.yaml") }

func (s *show) say(format string, args ...any) {
	fmt.Fprintln(s.Out, s.Style.Bold("· "+fmt.Sprintf(format, args...)))
}

// open starts the stand-ins for the services that are told, and writes their
// addresses where a machine keeps its own words.
func (s *show) open() (err error) {
	if s.office, err = standin.NewWebhook(); err != nil {
		return err
	}
	if s.post, err = standin.NewMail(); err != nil {
		s.office.Close()
		return err
	}
	text := fmt.Sprintf("vars:\n  office: %s\n  post: %s\n", s.office.Address(), s.post.Address())
	return os.WriteFile(filepath.Join(s.Folder, "stilltide.local.yaml"), []byte(text), 0o644)
}

// start runs the real watcher and prints what it prints.
func (s *show) start() error {
	self, err := os.Executable()
	if err != nil {
		return err
	}
	s.watcher = exec.Command(self, "--config", s.rules(), "watch")
	s.watcher.Dir = s.Folder
	pipe, err := s.watcher.StdoutPipe()
	if err != nil {
		return err
	}
	s.watcher.Stderr = s.watcher.Stdout
	if err := s.watcher.Start(); err != nil {
		return err
	}
	ready := make(chan struct{})
	s.printed.Go(func() { s.print(pipe, ready) })
	select {
	case <-ready:
		return nil
	case <-time.After(10 * time.Second):
		return errors.Join(errors.New("the watcher did not start"), s.watcher.Process.Kill())
	}
}

// print shows the watcher's lines, indented, until it ends.
func (s *show) print(from io.Reader, ready chan struct{}) {
	lines := bufio.NewScanner(from)
	var once sync.Once
	for lines.Scan() {
		text := lines.Text()
		for _, st := range job.States {
			text = strings.Replace(text, "  "+string(st), "  "+s.Style.State(st, string(st)), 1)
		}
		fmt.Fprintln(s.Out, "  "+text)
		if strings.Contains(text, "End with Ctrl-C") {
			once.Do(func() { close(ready) })
		}
	}
	once.Do(func() { close(ready) })
}

const (
	odd  = `slip-0402 Käpt'n "Blaufuß".txt`
	slow = "gauge-NOR_2031-04-03.csv"
)

// play drops the files, one scene after the other.
func (s *show) play() error {
	gauges, arrivals := filepath.Join(s.Folder, "arrivals", "gauges"), filepath.Join(s.Folder, "arrivals")
	drop := func(data, folder, name string) error { return Drop(data, filepath.Join(folder, name)) }
	s.say("Three tide gauges deliver a day of levels")
	for _, station := range []string{"NOR", "PIR", "SLU"} {
		name := "gauge-" + station + "_2031-04-02.csv"
		if err := drop(name, gauges, name); err != nil {
			return err
		}
	}
	s.until(5*time.Second, "done/NOR/gauge-NOR_2031-04-02.csv", "done/PIR/gauge-PIR_2031-04-02.csv",
		"done/SLU/gauge-SLU_2031-04-02.csv")

	s.say("The Sluice's next day has a faulty line: it fails, and a note says which")
	if err := drop("gauge-SLU_2031-04-03.csv", gauges, "gauge-SLU_2031-04-03.csv"); err != nil {
		return err
	}
	s.until(5*time.Second, "failed/gauge-SLU_2031-04-03.csv.failed.txt")

	s.say("A slip arrives while the register is locked: it fails once, then works")
	lock := filepath.Join(s.Folder, "register.lock")
	if err := os.WriteFile(lock, nil, 0o644); err != nil {
		return err
	}
	if err := drop("slip-0402-gale.txt", arrivals, "slip-0402-gale.txt"); err != nil {
		return err
	}
	s.untilRetrying(5 * time.Second) // the first attempt has met the lock
	if err := os.Remove(lock); err != nil {
		return err
	}

	s.say("A file with spaces, quotes and umlauts in its name, and one that no rule knows")
	if err := errors.Join(drop("slip-0402-kapitan.txt", arrivals, odd),
		drop("seal.jpg", arrivals, "seal.jpg")); err != nil {
		return err
	}

	s.say("North Mole's next day is written slowly, in pieces: it is left alone until it is complete")
	if err := s.writeSlowly(filepath.Join(gauges, slow), Data(slow)); err != nil {
		return err
	}
	s.until(6*time.Second, "done/NOR/"+slow, "slips/2031-04/slip-0402-gale.txt", "slips/2031-04/"+odd)
	return s.playSteps(arrivals, gauges)
}

// playSteps shows what rules can do beyond running a program.
func (s *show) playSteps(arrivals, gauges string) error {
	s.say("A bundle from the Sluice is unpacked, and its files go through the gauges' rule")
	bundle, err := Bundle()
	if err != nil {
		return err
	}
	if err := Deliver(bundle, filepath.Join(arrivals, "bundle-SLU-13.zip")); err != nil {
		return err
	}
	s.until(6*time.Second, "done/SLU/gauge-SLU_2031-03-30.csv", "done/SLU/gauge-SLU_2031-03-31.csv",
		"bundles/bundle-SLU-13.zip")

	s.say("Pier Head sends a corrected file under the same name, and North Mole one that was handled")
	err = errors.Join(Drop("gauge-PIR_2031-04-02-corrected.csv",
		filepath.Join(gauges, "gauge-PIR_2031-04-02.csv")),
		Drop("gauge-NOR_2031-04-02.csv", filepath.Join(gauges, "gauge-NOR_2031-04-02.csv")))
	if err != nil {
		return err
	}

	s.say("Soundings arrive without their description, which follows")
	if err := Drop("survey-07.xyz", filepath.Join(arrivals, "survey-07.xyz")); err != nil {
		return err
	}
	s.until(6*time.Second, "done/PIR/gauge-PIR_2031-04-02-2.csv")
	if err := Drop("survey-07.json", filepath.Join(arrivals, "survey-07.json")); err != nil {
		return err
	}
	s.until(6*time.Second, "surveys/07/survey-07.xyz", "surveys/07/summary.txt")

	s.say("Two scanned charts are made smaller where they are; one of them is wanted back (stilltide undo)")
	err = errors.Join(Deliver(Chart(), filepath.Join(s.Folder, "charts", "chart-12.pgm")),
		Deliver(Chart(), filepath.Join(s.Folder, "charts", "chart-13.pgm")))
	if err != nil {
		return err
	}
	return s.undoChart()
}

// undoChart waits for the charts and takes one back on the running watcher.
func (s *show) undoChart() error {
	for end := time.Now().Add(6 * time.Second); s.goesOn(end); time.Sleep(20 * time.Millisecond) {
		jobs, err := s.jobs(job.Filter{Rule: "charts", States: []job.State{job.Processed}})
		if err != nil || len(jobs) < 2 {
			continue
		}
		time.Sleep(50 * time.Millisecond) // their lines are printed a moment later
		for _, j := range jobs {
			if filepath.Base(j.File) == "chart-12.pgm" {
				return errors.Join(s.Run("undo", fmt.Sprint(j.ID), "--config", s.rules()), s.playFleet())
			}
		}
	}
	return nil // judge says what is missing
}

// jobs reads the ledger beside the watcher.
func (s *show) jobs(f job.Filter) ([]job.Job, error) {
	l, err := ledger.Read(filepath.Join(s.Folder, ".stilltide"))
	if err != nil {
		return nil, err
	}
	defer l.Close()
	return l.Jobs(f)
}

// writeSlowly holds the file open while it writes, with pauses longer than
// the debounce time.
func (s *show) writeSlowly(path string, content []byte) error {
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	const pieces = 4
	for i := range pieces {
		if _, err := f.Write(content[i*len(content)/pieces : (i+1)*len(content)/pieces]); err != nil {
			return errors.Join(err, f.Close())
		}
		time.Sleep(500 * time.Millisecond)
	}
	return f.Close()
}

// goesOn reports whether there is more to wait for.
func (s *show) goesOn(end time.Time) bool { return time.Now().Before(end) && s.Until.Err() == nil }

// untilRetrying waits for a job that waits for its next attempt.
func (s *show) untilRetrying(most time.Duration) {
	for end := time.Now().Add(most); s.goesOn(end); time.Sleep(20 * time.Millisecond) {
		if jobs, err := s.jobs(job.Filter{States: []job.State{job.Retrying}}); err == nil &&
			len(jobs) > 0 {
			return
		}
	}
}

// until waits for files to be where they belong.
func (s *show) until(most time.Duration, files ...string) {
	for end := time.Now().Add(most); s.goesOn(end); time.Sleep(20 * time.Millisecond) {
		missing := 0
		for _, name := range files {
			if _, err := os.Stat(filepath.Join(s.Folder, name)); err != nil {
				missing++
			}
		}
		if missing == 0 {
			time.Sleep(50 * time.Millisecond) // its line is printed a moment later
			return
		}
	}
}

func (s *show) stop() error {
	if err := s.watcher.Process.Signal(syscall.SIGTERM); err != nil {
		return err
	}
	s.closeHelpers()
	s.printed.Wait()
	if err := s.watcher.Wait(); err != nil {
		s.wrong = append(s.wrong, fmt.Sprintf("the watcher ended with %v, and must end with 0", err))
	}
	return nil
}

// results shows the ledger and the failure note as a person would look at them.
func (s *show) results() error {
	fmt.Fprintln(s.Out)
	s.say("What the ledger says (stilltide jobs)")
	if err := s.Run("jobs", "--limit", "20", "--config", s.rules()); err != nil {
		return err
	}
	fmt.Fprintln(s.Out)
	s.say("The failure note, failed/gauge-SLU_2031-04-03.csv.failed.txt")
	note, err := os.ReadFile(filepath.Join(s.Folder, "failed", "gauge-SLU_2031-04-03.csv"+plan.NoteEnding))
	if err != nil {
		return nil // judge says what is missing
	}
	for _, line := range strings.Split(strings.TrimRight(string(note), "\n"), "\n") {
		fmt.Fprintln(s.Out, strings.TrimRight("    "+line, " "))
	}
	fmt.Fprintln(s.Out)
	s.say("What the duty officer was told, by a webhook and an e-mail")
	for _, title := range s.told() {
		fmt.Fprintln(s.Out, "    "+title)
	}
	return nil
}

// told returns the titles of what the stand-ins got.
func (s *show) told() (titles []string) {
	for _, r := range s.office.All() {
		var event struct{ Data notice.Message }
		if err := json.Unmarshal(r.Body, &event); err != nil {
			s.wrong = append(s.wrong, "the webhook's body is not JSON: "+err.Error())
		}
		titles = append(titles, event.Data.Title)
	}
	for _, l := range s.post.All() {
		m, err := mail.ReadMessage(bytes.NewReader(l.Text))
		if err != nil {
			s.wrong = append(s.wrong, "the e-mail cannot be read: "+err.Error())
			continue
		}
		titles = append(titles, "Subject: "+m.Header.Get("Subject"))
	}
	return titles
}
