// Package runner runs the commands of jobs.
//
// Each command gets its own process group, so that ending it also ends what it
// started. Its output goes straight to a file: there is no pipe that could fill
// up and no goroutine that copies. The environment carries the ledger, job and
// attempt, so that a command that survived a crash of the watcher is found and
// ended before its job runs again.
//
// A command is started and waited for on one locked thread, because on Linux
// the parent-death signal is sent when the creating thread ends, not the process
// (prctl(2), PR_SET_PDEATHSIG).
//
// Where files of other machines or programs are open, commands come from a second process
// that has none of them open (see Apart), so that one which does not answer holds up none.
package runner

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"stilltide/internal/watchfs"
)

// Grace is the time between asking a command to end and ending it by force.
const Grace = 5 * time.Second

// Spec is one command to run.
type Spec struct {
	Args    []string
	Dir     string
	Env     []string // beyond the watcher's own
	Secrets []string // variables of the watcher's own that the command does not get
	Output  string   // file that what is printed is added to
	Stdout  string   // file for standard output alone, "" for Output
	Direct  bool     // what is printed goes where the program's own output goes, not to Output
	Stdin   string   // file to read from, "" for nothing
	// Terminal gives the command the terminal for as long as it runs: it reads from it, and Ctrl-C
	// goes to it alone (see HasTerminal).
	Terminal bool
	Timeout  time.Duration
	Ledger   string // mark of the state folder
	Job      int64
	Attempt  int
}

// Result is how a command ended.
type Result struct {
	Exit     int    // exit code; 128 + signal number if a signal ended it; 127 if it could not be started
	Signal   string // name of the signal that ended it
	Err      error  // it could not be started
	TimedOut bool
	Stopped  bool // ended because the context was
	Left     bool // it left processes behind, which were ended
	Behind   bool // it goes on, on another machine: only the watcher ended
	Lost     int  // other machines that had it before, and did not end it
	Ran      time.Duration
	CPU      time.Duration
	Memory   int64 // peak, bytes; 0 if it cannot be told from the watcher's own
	Output   int64 // bytes in Spec.Output afterwards
}

// Runner runs commands. Use New.
type Runner struct {
	grace time.Duration

	mu    sync.Mutex
	apart *starter // the process that starts commands, nil while this one does
}

// New makes a Runner.
func New() *Runner { return &Runner{grace: Grace} }

// Run runs a command and waits for its end. If the context ends first, or the
// timeout is over, the whole process group is asked to end and, after Grace,
// ended by force.
func (r *Runner) Run(ctx context.Context, s Spec) Result {
	c, files, err := prepare(s)
	defer closeAll(files)
	if err != nil {
		return Result{Exit: 127, Err: err}
	}
	begun := time.Now()
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	child, err := r.startFree(ctx, c, s.Args)
	if err != nil {
		return Result{Exit: 127, Err: startError(s, err)}
	}
	e := ending{group: child.pid(), grace: r.grace}
	running.add(e.group)
	defer running.remove(e.group)
	defer context.AfterFunc(ctx, func() { e.cutShort(&e.stopped) })()
	if s.Timeout > 0 {
		t := time.AfterFunc(s.Timeout, func() { e.cutShort(&e.timedOut) })
		defer t.Stop()
	}
	res := child.wait(s.Terminal)
	if s.Terminal {
		takeTerminal()
	}
	res.Left = e.endRest()
	e.finish()
	res.TimedOut, res.Stopped, res.Ran = e.timedOut, e.stopped, time.Since(begun)
	if !s.Direct {
		res.Output = files[0].size()
	}
	return res
}

// process is a command that has started.
type process interface {
	pid() int
	wait(terminal bool) Result
}

// busyPatience is how long a program may be open for writing before its command cannot be started.
const busyPatience = 5 * time.Second

// startFree starts a command once its program is not being written. One that was written a moment ago
// may still be open in a child that another start has made, until that becomes a program of its own
// (fork(2), execve(2)); on a busy machine that takes a while.
func (r *Runner) startFree(ctx context.Context, c command, args []string) (process, error) {
	for end := time.Now().Add(busyPatience); ; {
		child, err := r.start(c, args)
		if !errors.Is(err, syscall.ETXTBSY) || ctx.Err() != nil || time.Now().After(end) {
			return child, err
		}
		time.Sleep(10 * time.Millisecond)
	}
}

// ending ends a command before its time.
type ending struct {
	group int // the process that leads it
	grace time.Duration

	mu                sync.Mutex
	over              bool // the command has ended
	timedOut, stopped bool
	forced            sync.WaitGroup
}

// cutShort is begin for a command that has not ended by itself. That it has may be noticed
// late, when this program was stopped for a while (SIGSTOP, a machine that slept).
func (e *ending) cutShort(why *bool) {
	if !exited(e.group) {
		e.begin(why)
	}
}

// begin asks the command's group to end, for the first reason that comes.
func (e *ending) begin(why *bool) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.over || e.timedOut || e.stopped {
		return
	}
	*why = true
	askToEnd(e.group)
	e.forced.Go(e.force)
}

// leaving is the time that what a command started gets to end by itself after it.
const leaving = 100 * time.Millisecond

// endRest ends what a command left running in the background: nothing of a job
// outlives it. It tells whether there was anything.
func (e *ending) endRest() bool {
	for end := time.Now().Add(leaving); groupAlive(e.group); time.Sleep(2 * time.Millisecond) {
		if time.Now().After(end) {
			e.begin(new(bool))
			return true
		}
	}
	return false
}

// groups are the process groups of the commands that run now.
type groups struct {
	mu  sync.Mutex
	all map[int]bool
}

var running = groups{all: map[int]bool{}}

func (g *groups) add(group int) {
	g.mu.Lock()
	g.all[group] = true
	g.mu.Unlock()
}

func (g *groups) remove(group int) {
	g.mu.Lock()
	delete(g.all, group)
	g.mu.Unlock()
}

// EndAll ends the commands of this process that run, and what they started, by force
// and at once: the program itself is about to end.
func EndAll() {
	running.mu.Lock()
	defer running.mu.Unlock()
	for group := range running.all {
		forceEnd(group)
	}
}

// finish is told that the command has ended. It returns when, if the group was
// asked to end, all of it has.
func (e *ending) finish() {
	e.mu.Lock()
	e.over = true
	e.mu.Unlock()
	e.forced.Wait()
}

// force ends the group if it does not end in time after it was asked.
func (e *ending) force() {
	deadline := time.After(e.grace)
	tick := time.NewTicker(20 * time.Millisecond)
	defer tick.Stop()
	for groupAlive(e.group) {
		select {
		case <-deadline:
			forceEnd(e.group)
			return
		case <-tick.C:
		}
	}
}

func closeAll(files []descriptor) {
	for _, f := range files {
		f.close()
	}
}

// command is what the system needs to start one.
type command struct {
	path  string
	dir   string
	in    string // what it opens itself as standard input, where it is far; "" for files[0]
	far   bool   // see reach
	env   []string
	files [3]descriptor // standard input, output, error

	terminal bool // it comes to the terminal's foreground
}

// nothing is what commands read that get no input. It stays open.
var nothing = sync.OnceValues(func() (descriptor, error) { return openFile(os.DevNull, os.O_RDONLY, 0) })

// prepare makes the command and opens its files, which are to be closed.
func prepare(s Spec) (c command, files []descriptor, err error) {
	if c.path = s.Args[0]; !filepath.IsAbs(c.path) {
		if c.path, err = exec.LookPath(c.path); err != nil && !errors.Is(err, exec.ErrDot) {
			return c, nil, startError(s, err)
		}
	}
	if c.far, err = reach(s.Dir, c.path, s.Stdin); err != nil {
		return c, nil, startError(s, err)
	}
	in, err := nothing()
	if err != nil {
		return c, nil, err
	}
	out, errs := descriptorOf(os.Stdout), descriptorOf(os.Stderr)
	if !s.Direct {
		if out, err = openFile(s.Output, os.O_WRONLY|os.O_CREATE|os.O_APPEND, 0o600); err != nil {
			return c, nil, fmt.Errorf("the output file cannot be made: %w", err)
		}
		files, errs = append(files, out), out
	}
	if s.Stdout != "" {
		if out, err = openFile(s.Stdout, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o666); err != nil {
			return c, files, fmt.Errorf("the file for standard output cannot be made: %w", err)
		}
		files = append(files, out)
	}
	if s.Stdin != "" {
		own, err := openFile(s.Stdin, os.O_RDONLY, 0)
		if err != nil {
			return c, files, fmt.Errorf("the file cannot be read: %w", err)
		}
		if c.far {
			c.in = s.Stdin
			own.close()
		} else {
			in, files = own, append(files, own)
		}
	}
	if s.Terminal {
		in, c.terminal = descriptorOf(os.Stdin), true
	}
	own := s.Env
	if s.Ledger != "" {
		own = append(own[:len(own):len(own)], "TIDE_LEDGER="+s.Ledger, "TIDE_JOB="+strconv.FormatInt(s.Job, 10),
			"TIDE_ATTEMPT="+strconv.Itoa(s.Attempt))
	}
	c.dir, c.env, c.files = s.Dir, environment(os.Environ(), own, s.Secrets), [3]descriptor{in, out, errs}
	return c, files, nil
}

// remote is watchfs.Remote; tests replace it.
var remote = watchfs.Remote

// reach looks at a command's folder and program: if they do not answer, that holds up their own
// command alone. far tells that they, or what it reads, are on a file system that may cease to answer
// in the next moment. Then the child must not reach for them before it is a program of its own: until
// then no other can be started (syscall.ForkLock), and a processor of Go's scheduler waits for it.
func reach(dir, program, in string) (far bool, err error) {
	_, dirErr := os.Stat(dir)
	_, programErr := os.Stat(program)
	if far = remote(dir) || remote(program) || in != "" && remote(in); far {
		err = errors.Join(dirErr, programErr) // a shell would say it in its own words
	}
	return far, err
}

// environment is the watcher's own, but for its secrets, and what a command gets beyond
// it. Of two of one name the last counts. A secret that own names without a value is asked
// for: the command gets it.
func environment(base, own, secrets []string) []string {
	own = slices.DeleteFunc(slices.Clone(own), func(entry string) bool {
		name, value, _ := strings.Cut(entry, "=")
		asked := value == "" && slices.Contains(secrets, name)
		if asked {
			secrets = slices.DeleteFunc(slices.Clone(secrets), func(s string) bool { return s == name })
		}
		return asked
	})
	base = slices.DeleteFunc(slices.Clone(base), func(entry string) bool { return named(secrets, entry) })
	names := make([]string, 0, len(own))
	for _, entry := range own {
		name, _, _ := strings.Cut(entry, "=")
		names = append(names, name)
	}
	env := make([]string, 0, len(base)+len(own))
	for _, entry := range base {
		if !named(names, entry) {
			env = append(env, entry)
		}
	}
	for i, entry := range own {
		if !named(names[i+1:], entry) {
			env = append(env, entry)
		}
	}
	return env
}

// named reports whether an entry has one of the names.
func named(names []string, entry string) bool {
	for _, name := range names {
		if len(entry) > len(name) && entry[len(name)] == '=' && sameName(entry[:len(name)], name) {
			return true
		}
	}
	return false
}

// isThere reports whether a program is there: if the system says that something is
// not, it is a script whose interpreter is missing.
func isThere(program string) bool {
	_, err := exec.LookPath(program)
	return err == nil
}

// Missing says that a program is not there, or may not be executed: no file is to blame, and
// none could be worked on.
type Missing struct{ Text string }

func (e Missing) Error() string { return e.Text }

func startError(s Spec, err error) error {
	program := s.Args[0]
	if info, statErr := os.Stat(s.Dir); statErr != nil || !info.IsDir() {
		return fmt.Errorf("the working folder %s is not there", s.Dir)
	}
	switch {
	case errors.Is(err, exec.ErrNotFound):
		return Missing{fmt.Sprintf("the program %s is not in PATH; install it or write its whole path", program)}
	case errors.Is(err, os.ErrNotExist) && isThere(program):
		return Missing{fmt.Sprintf("the program that %s names in its first line is not there", program)}
	case errors.Is(err, os.ErrNotExist):
		return Missing{fmt.Sprintf("the program %s is not there", program)}
	case errors.Is(err, os.ErrPermission):
		return Missing{fmt.Sprintf("the program %s may not be executed; try chmod +x", program)}
	}
	return fmt.Errorf("the program %s cannot be started: %s", program,
		strings.TrimPrefix(err.Error(), "fork/exec "+program+": "))
}
