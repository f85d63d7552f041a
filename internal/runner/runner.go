// Package runner runs the commands of jobs.
//
// Each command gets a process group of its own, so that ending it ends what
// it started, too. What it prints goes straight to a file: there is no pipe
// that could fill up and no goroutine that copies. The environment carries
// the ledger, job and attempt, by which a command that outlived a crash of
// the watcher is found and ended before its job runs again.
//
// All commands are started by one locked thread that never ends, because on
// Linux the signal at the parent's death comes when the creating thread ends,
// not the process (prctl(2), PR_SET_PDEATHSIG).
package runner

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"
)

// Grace is the time between asking a command to end and ending it by force.
const Grace = 5 * time.Second

// Spec is one command to run.
type Spec struct {
	Args    []string
	Dir     string
	Env     []string // beyond the watcher's own
	Output  string   // file that what is printed is added to
	Stdout  string   // file for standard output alone, "" for Output
	Direct  bool     // what is printed goes where the program's own output goes, not to Output
	Stdin   string   // file to read from, "" for nothing
	Timeout time.Duration
	Ledger  string // mark of the state folder
	Job     int64
	Attempt int
}

// Result is how a command ended.
type Result struct {
	Exit     int    // exit code; 128 + signal number if a signal ended it; 127 if it could not be started
	Signal   string // name of the signal that ended it
	Err      error  // it could not be started
	TimedOut bool
	Stopped  bool // ended because the context was
	Ran      time.Duration
	CPU      time.Duration
	Memory   int64 // peak, bytes
}

// Runner starts commands. Use New, and Close at the end.
type Runner struct {
	start chan startRequest
	once  sync.Once
	grace time.Duration
}

type startRequest struct {
	cmd  *exec.Cmd
	done chan error
}

// New starts the thread that starts commands.
func New() *Runner {
	r := &Runner{start: make(chan startRequest), grace: Grace}
	go r.spawner()
	return r
}

// Close ends the starting thread. No command may be running.
func (r *Runner) Close() { r.once.Do(func() { close(r.start) }) }

func (r *Runner) spawner() {
	runtime.LockOSThread()
	for req := range r.start {
		req.done <- req.cmd.Start()
	}
}

// Run runs a command and waits for its end. If the context ends first, or the
// timeout is over, the whole process group is asked to end and, after Grace,
// ended by force.
func (r *Runner) Run(ctx context.Context, s Spec) Result {
	cmd, files, err := prepare(s)
	defer closeAll(files)
	if err != nil {
		return Result{Exit: 127, Err: err}
	}
	begun := time.Now()
	req := startRequest{cmd: cmd, done: make(chan error, 1)}
	r.start <- req
	if err := <-req.done; err != nil {
		return Result{Exit: 127, Err: startError(s, err)}
	}
	var timedOut, stopped atomic.Bool
	ending := make(chan struct{})
	var once sync.Once
	end := func(why *atomic.Bool) {
		once.Do(func() {
			why.Store(true)
			close(ending)
			askToEnd(cmd)
		})
	}
	unstop := context.AfterFunc(ctx, func() { end(&stopped) })
	defer unstop()
	if s.Timeout > 0 {
		t := time.AfterFunc(s.Timeout, func() { end(&timedOut) })
		defer t.Stop()
	}
	waited := make(chan struct{})
	var forced sync.WaitGroup
	forced.Go(func() { r.force(cmd, ending, waited) })
	waitErr := cmd.Wait()
	close(waited)
	forced.Wait()
	res := outcome(cmd, waitErr)
	res.TimedOut, res.Stopped, res.Ran = timedOut.Load(), stopped.Load(), time.Since(begun)
	return res
}

// force ends the group that did not end when it was asked. It returns when
// the command and, if it was asked to end, its whole group are gone.
func (r *Runner) force(cmd *exec.Cmd, ending, waited chan struct{}) {
	select {
	case <-ending:
	case <-waited:
		select {
		case <-ending:
		default:
			return
		}
	}
	deadline := time.After(r.grace)
	tick := time.NewTicker(20 * time.Millisecond)
	defer tick.Stop()
	for groupAlive(cmd) {
		select {
		case <-deadline:
			forceEnd(cmd)
			return
		case <-tick.C:
		}
	}
}

func closeAll(files []*os.File) {
	for _, f := range files {
		f.Close()
	}
}

// prepare makes the command and opens its files, which are to be closed.
func prepare(s Spec) (*exec.Cmd, []*os.File, error) {
	if info, err := os.Stat(s.Dir); err != nil || !info.IsDir() {
		return nil, nil, fmt.Errorf("the working folder %s is not there", s.Dir)
	}
	path, err := exec.LookPath(s.Args[0])
	if err != nil && !errors.Is(err, exec.ErrDot) {
		return nil, nil, startError(s, err)
	}
	var files []*os.File
	out := os.Stdout
	if !s.Direct {
		if out, err = os.OpenFile(s.Output, os.O_WRONLY|os.O_CREATE|os.O_APPEND, 0o600); err != nil {
			return nil, nil, fmt.Errorf("the output file cannot be made: %w", err)
		}
		files = append(files, out)
	}
	cmd := &exec.Cmd{Path: path, Args: s.Args, Dir: s.Dir, Stdout: out, Stderr: out}
	if s.Direct {
		cmd.Stderr = os.Stderr
	}
	if s.Stdout != "" {
		own, err := os.OpenFile(s.Stdout, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o666)
		if err != nil {
			return nil, files, fmt.Errorf("the file for standard output cannot be made: %w", err)
		}
		files, cmd.Stdout = append(files, own), own
	}
	if s.Stdin != "" {
		in, err := os.Open(s.Stdin)
		if err != nil {
			return nil, files, fmt.Errorf("the file cannot be read: %w", err)
		}
		files, cmd.Stdin = append(files, in), in
	}
	cmd.Env = append(os.Environ(), s.Env...)
	if s.Ledger != "" {
		cmd.Env = append(cmd.Env, "TIDE_LEDGER="+s.Ledger, "TIDE_JOB="+strconv.FormatInt(s.Job, 10), "TIDE_ATTEMPT="+strconv.Itoa(s.Attempt))
	}
	ownGroup(cmd)
	return cmd, files, nil
}

func startError(s Spec, err error) error {
	program := s.Args[0]
	switch {
	case errors.Is(err, exec.ErrNotFound):
		return fmt.Errorf("the program %s is not in PATH; install it or write its whole path", program)
	case errors.Is(err, os.ErrNotExist):
		return fmt.Errorf("the program %s is not there", program)
	case errors.Is(err, os.ErrPermission):
		return fmt.Errorf("the program %s may not be executed; try chmod +x", program)
	}
	return fmt.Errorf("the program %s cannot be started: %s", program, strings.TrimPrefix(err.Error(), "fork/exec "+program+": "))
}
