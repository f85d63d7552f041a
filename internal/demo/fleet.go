package demo

import (
	"bufio"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"stilltide/docs"
	"stilltide/internal/core/fill"
	"stilltide/internal/core/job"
	"stilltide/internal/wire"
)

// lent is what the demo starts for other machines: a server and two helpers, as processes on
// loopback.
type lent struct {
	server  *exec.Cmd
	address string
	trusted string
	helpers map[string]*exec.Cmd
}

// openFleet starts the server and makes the keys, and has two of the office's rules run their
// commands on other machines.
func (s *show) openFleet(program string) error {
	port, err := freePort()
	if err != nil {
		return err
	}
	s.fleet = &lent{address: fmt.Sprintf("nats://127.0.0.1:%d", port), helpers: map[string]*exec.Cmd{}}
	conf := filepath.Join(s.Folder, "server.conf")
	text := strings.Replace(docs.LoopbackServer, "4222", fmt.Sprint(port), 1)
	if err := os.WriteFile(conf, []byte(text), 0o600); err != nil {
		return err
	}
	if s.fleet.trusted, err = wire.MakeKey(filepath.Join(s.Folder, "office.nk")); err != nil {
		return err
	}
	if _, err := wire.MakeKey(filepath.Join(s.Folder, "helper.nk")); err != nil {
		return err
	}
	s.fleet.server = exec.Command(program, "-c", conf)
	s.fleet.server.Env = append(os.Environ(), "TIDE_STORE="+filepath.Join(s.Folder, "engine"))
	if err := s.fleet.server.Start(); err != nil {
		return fmt.Errorf("the server cannot be started: %w", err)
	}
	return s.useFleet()
}

// useFleet changes the office's rules.
func (s *show) useFleet() error {
	path := s.rules()
	text, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	rules := strings.Replace(string(text), "workers: 2\n",
		fmt.Sprintf("workers: 2\n\n# Other machines run the commands "+
			"of rules with a pool.\nfleet: {server: %q, key_file: office.nk, lease: 2s}\n", s.fleet.address), 1)
	for _, name := range []string{"gauge-readings", "charts"} {
		rules = strings.Replace(rules, "  - name: "+name+"\n",
			"  - name: "+name+"\n    pool: heavy\n    bring: [\"bin/*\"]\n", 1)
	}
	return os.WriteFile(path, []byte(rules), 0o644)
}

func freePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}

// lend starts a helper, whose lines are shown with its name.
func (s *show) lend(name string) error {
	self, err := os.Executable()
	if err != nil {
		return err
	}
	h := exec.Command(self, "fleet", "lend", "--pool", "heavy", "--name", name, "--workers", "2", "--server",
		s.fleet.address, "--key-file", filepath.Join(s.Folder, "helper.nk"), "--trust", s.fleet.trusted,
		"--folder", filepath.Join(s.Folder, "lent-"+name))
	h.Dir = s.Folder
	lines, err := h.StdoutPipe()
	if err != nil {
		return err
	}
	if err := h.Start(); err != nil {
		return err
	}
	s.fleet.helpers[name] = h
	s.printed.Go(func() { s.printHelper(name, lines) })
	return nil
}

func (s *show) printHelper(name string, from io.Reader) {
	for lines := bufio.NewScanner(from); lines.Scan(); {
		fmt.Fprintln(s.Out, s.Style.Dim("  "+name+": "+lines.Text()))
	}
}

// moreCharts are those of the scene in which a helper is killed.
const moreCharts = 12

// playFleet kills one of the helpers while both work.
func (s *show) playFleet() error {
	if s.fleet == nil {
		return nil
	}
	s.say("Twelve more charts; one of the two machines that make them smaller is killed in the middle")
	var names []string
	for n := range moreCharts {
		name := fmt.Sprintf("chart-%d.pgm", 20+n)
		names = append(names, "charts/"+name)
		if err := Deliver(Chart(), filepath.Join(s.Folder, "charts", name)); err != nil {
			return err
		}
	}
	s.untilHalved(4*time.Second, names[:3])
	if err := s.fleet.helpers["kelder3"].Process.Kill(); err != nil {
		return err
	}
	s.untilHalved(20*time.Second, names)
	return nil
}

// untilHalved waits for charts to be made smaller.
func (s *show) untilHalved(most time.Duration, names []string) {
	for end := time.Now().Add(most); s.goesOn(end); time.Sleep(20 * time.Millisecond) {
		if left := s.notHalved(names); len(left) == 0 {
			return
		}
	}
}

func (s *show) notHalved(names []string) (left []string) {
	for _, name := range names {
		text, err := os.ReadFile(filepath.Join(s.Folder, name))
		if err != nil || !strings.Contains(string(text[:min(len(text), 64)]), "48 32") {
			left = append(left, name)
		}
	}
	return left
}

// judgeFleet checks what only the fleet's scene makes.
func (s *show) judgeFleet(want map[string]string) {
	if s.fleet == nil {
		return
	}
	for n := range moreCharts {
		name := fmt.Sprintf("chart-%d.pgm", 20+n)
		want[name] = "processed"
		s.expect("charts/"+name, "48 32")
	}
	jobs, err := s.jobs(job.Filter{Rule: "charts"})
	if err != nil {
		s.wrong = append(s.wrong, err.Error())
	}
	for _, j := range jobs {
		if j.State == job.Processed && !strings.Contains(j.Result, "on kelder") {
			s.wrong = append(s.wrong, fmt.Sprintf("%s was not made smaller on another machine", filepath.Base(j.File)))
		}
	}
}

// closeHelpers asks the helpers to end, and waits for them.
func (s *show) closeHelpers() {
	if s.fleet == nil {
		return
	}
	for _, h := range s.fleet.helpers {
		_ = h.Process.Signal(os.Interrupt) // one was killed
	}
	for _, h := range s.fleet.helpers {
		_ = h.Wait()
	}
	clear(s.fleet.helpers)
}

// closeFleet ends what was started.
func (s *show) closeFleet() {
	if s.fleet == nil || s.fleet.server == nil || s.fleet.server.Process == nil {
		return
	}
	s.closeHelpers()
	_ = s.fleet.server.Process.Kill()
	_ = s.fleet.server.Wait()
}

// fleetHint says how to look at the fleet afterwards.
func (s *show) fleetHint() string {
	if s.fleet == nil {
		return ""
	}
	return fmt.Sprintf("    TIDE_STORE=%s nats-server -c server.conf   # and then: stilltide fleet\n",
		fill.QuoteWord(filepath.Join(s.Folder, "engine")))
}
