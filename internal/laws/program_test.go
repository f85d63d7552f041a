//go:build linux

package laws

import (
	"bytes"
	"context"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"stilltide/internal/core/job"
	"stilltide/internal/core/rule"
	"stilltide/internal/ledger"
	"stilltide/internal/machine"
)

var programSeeds = flag.Int("laws.program", 20, "how many worlds the laws are tried in with the built program")

// program builds the program, once.
var program = sync.OnceValues(func() (string, error) { return machine.Build("stilltide/cmd/stilltide") })

func TestMain(m *testing.M) { os.Exit(machine.Tests{M: m}.Run()) }

// TestLawsOfTheProgram tries what needs the built program: a sweep that is ended by
// force anywhere and begun again comes to the same tree, and so does watch.
func TestLawsOfTheProgram(t *testing.T) {
	path, err := program()
	if err != nil {
		t.Fatal(err)
	}
	base := machine.Memory(t)
	from, to := *first, *first+uint64(*programSeeds)
	if *seed > 0 {
		from, to = *seed, *seed+1
	}
	for s := from; s < to; s++ {
		w := draw(s)
		if how := tryProgram(t, path, base, w); how != "" {
			t.Errorf("seed %d: %s\n%sgo test ./internal/laws -run TestLawsOfTheProgram -laws.seed=%d", s, how,
				w.describe(), s)
		}
	}
}

func tryProgram(t *testing.T, path, base string, w *world) string {
	plain := lay(t, base, w)
	defer remove(plain)
	t.Setenv("XDG_DATA_HOME", trashOf(plain))
	before := &run{w: w, before: snapshot(t, plain)}
	if out, err := command(path, plain, "sweep"); err != nil {
		return "the sweep ended badly: " + out
	}
	want := snapshot(t, plain)
	if how := conservation(t, &run{w: w, before: before.before, after: want}); how != "" {
		return "conservation: " + how
	}
	if w.has("loops: allow", "age:", "batch:", "group:", "again:", ", from:", "order:", "schedule:") ||
		w.commands() {
		return ""
	}
	if how := anyInstant(t, path, base, w, before.before, want); how != "" {
		return how
	}
	if w.has("existing:", "events:", "skip", "replace", "fail\n", "same_name: fail") {
		return ""
	}
	return oneWay(t, path, base, w, want)
}

// lay lays a world out in a folder of its own.
func lay(t *testing.T, base string, w *world) string {
	dir, err := os.MkdirTemp(base, "p")
	if err != nil {
		t.Fatal(err)
	}
	w.build(t, dir)
	return dir
}

// command runs the program; only an end that it does not have by itself is an error.
func command(path, dir string, args ...string) (string, error) {
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	c := exec.CommandContext(ctx, path, args...)
	c.Dir = dir
	out, err := c.CombinedOutput()
	if code := c.ProcessState.ExitCode(); code == 0 || code == 1 {
		err = nil
	}
	return string(out), err
}

// anyInstant ends sweeps by force, and then lets one come to its end.
func anyInstant(t *testing.T, path, base string, w *world, before, want tree) string {
	dir := lay(t, base, w)
	defer remove(dir)
	t.Setenv("XDG_DATA_HOME", trashOf(dir))
	chance := rand.New(rand.NewPCG(w.seed, 6))
	var said bytes.Buffer
	for range 1 + chance.IntN(2) { // the bound on attempts that a crash cut short is not reached
		c := exec.Command(path, "sweep")
		c.Dir = dir
		c.Stdout, c.Stderr = &said, &said
		if err := c.Start(); err != nil {
			t.Fatal(err)
		}
		time.Sleep(8*time.Millisecond + time.Duration(chance.IntN(12000))*time.Microsecond)
		_ = c.Process.Kill()
		_ = c.Wait()
	}
	for range 3 {
		out, err := command(path, dir, "sweep")
		said.WriteString(out)
		if err != nil {
			return "after a kill the sweep ended badly: " + said.String()
		}
	}
	got := snapshot(t, dir)
	if how := conservation(t, &run{w: w, before: before, after: got}); how != "" {
		return "conservation after kills: " + how + "\n" + said.String()
	}
	if diff := differ(want, got, dir, w.has("workers: 2")); diff != "" {
		return "ended by force and started again it differs (−: without, +: with): " + diff + "\n" + said.String()
	}
	return ""
}

// oneWay has watch handle the files, until nothing is left to do.
func oneWay(t *testing.T, path, base string, w *world, want tree) string {
	dir := lay(t, base, w)
	defer remove(dir)
	t.Setenv("XDG_DATA_HOME", trashOf(dir))
	c := exec.Command(path, "watch")
	c.Dir = dir
	said := readable{}
	c.Stdout, c.Stderr = &said, &said
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	for end := time.Now().Add(20 * time.Second); !strings.Contains(said.String(), " ready: ") &&
		time.Now().Before(end); {
		time.Sleep(5 * time.Millisecond)
	}
	quiet(dir)
	_ = c.Process.Signal(syscall.SIGTERM)
	if err := c.Wait(); err != nil {
		return "watch ended badly: " + err.Error() + "\n" + said.String()
	}
	if diff := differ(want, snapshot(t, dir), dir, w.has("workers: 2")); diff != "" {
		return "watch differs from sweep (−: sweep, +: watch): " + diff + "\n" + said.String()
	}
	return ""
}

// readable is what a program has printed, to be read while it prints on.
type readable struct {
	mu   sync.Mutex
	text bytes.Buffer
}

func (r *readable) Write(p []byte) (int, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.text.Write(p)
}

func (r *readable) String() string {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.text.String()
}

// quiet waits until the watcher has had nothing new to tell for a while.
func quiet(dir string) {
	last, since := "", time.Now()
	for end := time.Now().Add(10 * time.Second); time.Now().Before(end) &&
		time.Since(since) < 250*time.Millisecond; time.Sleep(20 * time.Millisecond) {
		now := ""
		if l, err := ledger.Read(filepath.Join(dir, ".stilltide")); err == nil {
			jobs, _ := l.Jobs(job.Filter{})
			for _, j := range jobs {
				now += fmt.Sprintf("%d %s\n", j.ID, j.State)
			}
			l.Close()
		}
		if now != last {
			last, since = now, time.Now()
		}
	}
}

var number = regexp.MustCompile(`-\d+(\.|$)`)

// differ compares two trees, numbers of names apart.
func differ(want, got tree, dir string, atOnce bool) string {
	list := func(t tree) []string {
		var names []string
		for path, e := range t {
			if e.Kind == "folder" || path == rule.FileName {
				continue
			}
			if strings.HasSuffix(path, ".failed.txt") {
				e.Content = "a note"
			}
			for number.MatchString(path) {
				path = number.ReplaceAllString(path, "$1")
			}
			names = append(names, fmt.Sprintf("%s %q %q", e.Kind, path, e.Content))
		}
		slices.Sort(names)
		if atOnce { // whether two equal contents meet at a name in the same instant is left to chance
			names = slices.Compact(names)
		}
		return names
	}
	a, b := list(want), list(got)
	if slices.Equal(a, b) {
		return ""
	}
	var out strings.Builder
	for _, one := range a {
		if !slices.Contains(b, one) {
			fmt.Fprintf(&out, "\n− %s", one)
		}
	}
	for _, one := range b {
		if !slices.Contains(a, one) {
			fmt.Fprintf(&out, "\n+ %s", one)
		}
	}
	if out.Len() == 0 {
		fmt.Fprintf(&out, "\n%q and %q", a, b)
	}
	return out.String()
}
