//go:build unix

package runner

import (
	"context"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func spec(t *testing.T, script string) Spec {
	t.Helper()
	return Spec{Args: []string{"sh", "-c", script}, Dir: t.TempDir(), Output: filepath.Join(t.TempDir(), "out"),
		Ledger: t.TempDir(), Job: 7, Attempt: 2}
}

func printed(t *testing.T, s Spec) string {
	t.Helper()
	b, err := os.ReadFile(s.Output)
	require.NoError(t, err)
	return string(b)
}

func newRunner(t *testing.T) *Runner {
	r := New()
	r.grace = 300 * time.Millisecond
	if startsApart {
		r.Apart()
		t.Cleanup(r.Close)
	}
	return r
}

// startsApart has commands started by the process for that.
var startsApart bool

// A command that another process starts is the same command.
func TestStartedApart(t *testing.T) {
	startsApart = true
	defer func() { startsApart = false }()
	for name, test := range map[string]func(*testing.T){
		"being written": TestAProgramThatIsBeingWritten, "output": TestOutputExitAndEnvironment,
		"far": TestACommandInAFarFolder, "memory": TestMemoryIsTheCommandsOwn, "not started": TestWhatCannotBeStarted,
		"signal": TestSignalIsNamed, "timeout": TestTimeoutEndsTheWholeGroup, "stop": TestStopGivesTheCommandItsMoment,
		"many": TestManyAtOnce, "words": TestWordsAreBytes,
	} {
		t.Run(name, test)
	}
}

// Arguments and variables need not be text, and there may be many.
func TestWordsAreBytes(t *testing.T) {
	s := spec(t, `printf '%s' "$1$VALUE"; printf '%s' "$2" | wc -c | tr -d ' '`)
	s.Args = append(s.Args, "zero", "\xff\xfe", strings.Repeat("x", 100<<10))
	s.Env = []string{"VALUE=\xfd", "LONG=" + strings.Repeat("y", 100<<10), "LONGER=" + strings.Repeat("z", 100<<10)}
	res := newRunner(t).Run(context.Background(), s)
	require.NoError(t, res.Err)
	require.Equal(t, "\xff\xfe\xfd102400\n", printed(t, s))
}

// A program that somebody is still writing is started as soon as that is over.
func TestAProgramThatIsBeingWritten(t *testing.T) {
	s := spec(t, "")
	program := filepath.Join(t.TempDir(), "program")
	f, err := os.OpenFile(program, os.O_WRONLY|os.O_CREATE, 0o700)
	require.NoError(t, err)
	_, err = f.WriteString("#!/bin/sh\necho ran\n")
	require.NoError(t, err)
	s.Args = []string{program}
	defer time.AfterFunc(200*time.Millisecond, func() { _ = f.Close() }).Stop()
	res := newRunner(t).Run(context.Background(), s)
	require.NoError(t, res.Err)
	require.Equal(t, "ran\n", printed(t, s))
}

func TestOutputExitAndEnvironment(t *testing.T) {
	r := newRunner(t)
	s := spec(t, `echo out; echo err >&2; echo "$TIDE_JOB $TIDE_ATTEMPT $MORE $PWD"; exit 3`)
	s.Env = []string{"MORE=x y"}
	res := r.Run(context.Background(), s)
	require.Equal(t, 3, res.Exit)
	require.NoError(t, res.Err)
	require.Equal(t, "out\nerr\n7 2 x y "+s.Dir+"\n", printed(t, s))
}

// A command whose folder or program may cease to answer is the same command: a shell goes there
// and becomes it.
func TestACommandInAFarFolder(t *testing.T) {
	before := remote
	t.Cleanup(func() { remote = before })
	remote = func(string) bool { return true }
	r := newRunner(t)
	s := spec(t, `printf '%s|' "$0" "$@" "$TIDE_JOB" "$PWD"; exit 3`)
	s.Dir = filepath.Join(s.Dir, "-with 'quotes' $and spaces")
	require.NoError(t, os.Mkdir(s.Dir, 0o777))
	s.Args = append(s.Args, "zero", "a b", `"$1"`, "", "--")
	require.Equal(t, 3, r.Run(context.Background(), s).Exit)
	require.Equal(t, `zero|a b|"$1"||--|7|`+s.Dir+"|", printed(t, s))

	s = spec(t, "cat; exit 4")
	s.Stdin = filepath.Join(s.Dir, "-read 'this'")
	require.NoError(t, os.WriteFile(s.Stdin, []byte("content"), 0o600))
	require.Equal(t, 4, r.Run(context.Background(), s).Exit)
	require.Equal(t, "content", printed(t, s))
	s.Stdin += " not"
	require.ErrorContains(t, r.Run(context.Background(), s).Err, "the file cannot be read")

	s = spec(t, "")
	s.Args = []string{filepath.Join(s.Dir, "no-such-program")}
	require.ErrorContains(t, r.Run(context.Background(), s).Err, "no-such-program is not there")
	s = spec(t, "true")
	s.Dir = "/no/such/folder"
	require.ErrorContains(t, r.Run(context.Background(), s).Err, "the working folder /no/such/folder is not there")
}

// A small command is not charged with the memory of the watcher that started it; one that has
// more than that is told of.
func TestMemoryIsTheCommandsOwn(t *testing.T) {
	r := newRunner(t)
	require.Zero(t, r.Run(context.Background(), spec(t, "true")).Memory)
	large := r.Run(context.Background(), spec(t, "dd if=/dev/zero of=/dev/null bs=300M count=1 2>&1")).Memory
	require.InDelta(t, 300<<20, large, 30<<20)
}

func TestTheLastOfOneNameCounts(t *testing.T) {
	require.Equal(t, []string{"HOME=/h", "odd", "A=own", "B=last"},
		environment([]string{"A=base", "HOME=/h", "odd", "B=base"}, []string{"B=first", "A=own", "B=last"}, nil))
	secret := []string{"KEY=k", "TOKEN=t", "HOME=/h"}
	require.Equal(t, []string{"HOME=/h"}, environment(secret, nil, []string{"KEY", "TOKEN"}))
	require.Equal(t, []string{"TOKEN=t", "HOME=/h"}, environment(secret, []string{"TOKEN="},
		[]string{"KEY", "TOKEN"}), "asked for")
	require.Equal(t, []string{"HOME=/h", "TOKEN=mine"}, environment(secret, []string{"TOKEN=mine"},
		[]string{"KEY", "TOKEN"}))
}

func TestWhatCannotBeStarted(t *testing.T) {
	r := newRunner(t)
	plain := filepath.Join(t.TempDir(), "plain")
	require.NoError(t, os.WriteFile(plain, []byte("x"), 0o600))
	script := filepath.Join(t.TempDir(), "tide-script")
	t.Setenv("PATH", filepath.Dir(script)+":"+os.Getenv("PATH"))
	require.NoError(t, os.WriteFile(script, []byte("#!/no/such/interpreter\n"), 0o700))
	for program, want := range map[string]string{
		"no-such-program": "the program no-such-program is not in PATH",
		"/no/such":        "the program /no/such is not there",
		plain:             "may not be executed",
		script:            "the program that " + script + " names in its first line is not there",
		"tide-script":     "the program that tide-script names in its first line is not there",
		t.TempDir():       "may not be executed",
	} {
		s := spec(t, "")
		s.Args = []string{program}
		res := r.Run(context.Background(), s)
		require.ErrorContains(t, res.Err, want)
		require.Equal(t, 127, res.Exit)
	}
	s := spec(t, "true")
	s.Dir = "/no/such/folder"
	require.ErrorContains(t, r.Run(context.Background(), s).Err, "the working folder /no/such/folder is not there")
}

func TestSignalIsNamed(t *testing.T) {
	r := newRunner(t)
	res := r.Run(context.Background(), spec(t, "kill -SEGV $$"))
	require.Equal(t, "SIGSEGV", res.Signal)
	require.Equal(t, 128+11, res.Exit)
}

// A command whose children ignore the first signal and moved to the
// background is gone, whole, after timeout and grace.
func TestTimeoutEndsTheWholeGroup(t *testing.T) {
	r := newRunner(t)
	s := spec(t, `trap "" TERM; (trap "" TERM; echo $$; sh -c 'trap "" TERM; echo $$; sleep 60' & wait) & echo $$; sleep 60`)
	s.Timeout = 200 * time.Millisecond
	begun := time.Now()
	res := r.Run(context.Background(), s)
	require.True(t, res.TimedOut)
	require.Less(t, time.Since(begun), 10*time.Second)
	require.Equal(t, "SIGKILL", res.Signal)
	for _, line := range strings.Fields(printed(t, s)) {
		pid, err := strconv.Atoi(line)
		require.NoError(t, err)
		require.Eventually(t, func() bool { return gone(pid) }, 5*time.Second, 5*time.Millisecond,
			"process %d is left", pid)
	}
}

// gone reports whether a process has ended; one that its parent has not waited
// for yet counts as ended.
func gone(pid int) bool {
	if syscall.Kill(pid, 0) != nil {
		return true
	}
	st, err := os.ReadFile("/proc/" + strconv.Itoa(pid) + "/stat")
	return err != nil || strings.Contains(string(st), ") Z ")
}

func TestStopGivesTheCommandItsMoment(t *testing.T) {
	r := newRunner(t)
	s := spec(t, `trap 'echo tidy; exit 0' TERM; echo up; while :; do sleep 0.01; done`)
	ctx, cancel := context.WithCancel(context.Background())
	var res Result
	var wg sync.WaitGroup
	wg.Go(func() { res = r.Run(ctx, s) })
	require.Eventually(t, func() bool { b, _ := os.ReadFile(s.Output); return len(b) > 0 }, 5*time.Second,
		time.Millisecond)
	cancel()
	wg.Wait()
	require.True(t, res.Stopped)
	require.Regexp(t, "(?s)^up\n.*tidy\n$", printed(t, s))
}

func TestManyAtOnce(t *testing.T) {
	r := newRunner(t)
	var wg sync.WaitGroup
	for range 50 {
		s := spec(t, "exit 0")
		wg.Go(func() {
			if res := r.Run(context.Background(), s); res.Exit != 0 || res.Err != nil {
				t.Errorf("%+v", res)
			}
		})
	}
	wg.Wait()
}
