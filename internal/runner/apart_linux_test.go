package runner

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"stilltide/internal/machine"
	"stilltide/internal/standin/share"
)

// becoming tells this program to open a file, and to become another program when its input ends.
const becoming = "STILLTIDE_TEST_BECOMES"

// TestMain serves a share, starts commands, or becomes another program, where this one is started for that.
func TestMain(m *testing.M) {
	share.Serve()
	if len(os.Args) == 2 && os.Args[1] == Starts && ServeStarts() {
		os.Exit(0)
	}
	if path := os.Getenv(becoming); path != "" {
		f, err := os.Open(path)
		fmt.Println("open", err)
		_, _ = io.ReadAll(os.Stdin)
		fmt.Println(syscall.Exec("/bin/true", []string{"true"}, nil), f.Name())
		os.Exit(1)
	}
	os.Exit(m.Run())
}

// hangingShare is a share with a file in it.
func hangingShare(t *testing.T) (s *share.Share, file string) {
	dir := t.TempDir()
	behind, at := filepath.Join(dir, "behind"), filepath.Join(dir, "share")
	require.NoError(t, os.MkdirAll(behind, 0o777))
	require.NoError(t, os.MkdirAll(at, 0o777))
	require.NoError(t, os.WriteFile(filepath.Join(behind, "open"), nil, 0o666))
	s, err := share.Mount(behind, at)
	if err != nil {
		machine.Lacks(t, "no FUSE here: "+err.Error())
	}
	t.Cleanup(s.Unmount)
	return s, filepath.Join(at, "open")
}

// A file is open on a share when that does not answer any more. Commands start all the same: no child
// closes that file.
func TestStartsBesideAShareThatHangs(t *testing.T) {
	s, file := hangingShare(t)
	dir := t.TempDir()
	startsApart = true
	defer func() { startsApart = false }()
	r := newRunner(t)
	run := func(say string) (string, Result) {
		out := filepath.Join(dir, say)
		args := []string{"/bin/sh", "-c", "echo $0; ls /proc/self/fd | wc -l", say}
		res := r.Run(context.Background(), Spec{Args: args, Dir: dir, Env: []string{"PATH=/usr/bin:/bin"}, Output: out})
		said, _ := os.ReadFile(out)
		return string(said), res
	}
	said, res := run("before")
	require.Equal(t, Result{}, Result{Exit: res.Exit, Err: res.Err})
	require.True(t, strings.HasPrefix(said, "before\n"), said)
	f, err := os.Open(file)
	require.NoError(t, err)
	require.NoError(t, s.Hang())
	ended := make(chan struct{})
	var after string
	go func() {
		defer close(ended)
		after, res = run("after")
	}()
	select {
	case <-ended:
	case <-time.After(20 * time.Second):
		t.Error("the command does not start")
	}
	require.NoError(t, s.GoOn())
	<-ended
	require.NoError(t, f.Close())
	require.Equal(t, Result{}, Result{Exit: res.Exit, Err: res.Err})
	require.Equal(t, strings.Replace(said, "before", "after", 1), after, "with the same descriptors")
}

// What a command reads lies on a share that does not answer. That command waits; others start.
func TestACommandThatReadsFromAShareThatHangs(t *testing.T) {
	for _, startsApart = range []bool{true, false} {
		s, file := hangingShare(t)
		before := spec(t, "echo up; while ! read line; do sleep 0.01; done")
		r := newRunner(t)
		ctx, stop := context.WithCancel(context.Background())
		before.Stdin = file
		reads := make(chan Result, 1)
		go func() { reads <- r.Run(ctx, before) }()
		require.Eventually(t, func() bool { b, _ := os.ReadFile(before.Output); return len(b) > 0 }, 20*time.Second,
			time.Millisecond)
		require.NoError(t, s.Hang())
		other := make(chan Result, 1)
		go func() { other <- r.Run(context.Background(), spec(t, "exit 3")) }()
		select {
		case res := <-other:
			require.Equal(t, 3, res.Exit)
		case <-time.After(20 * time.Second):
			t.Error("the command does not start")
		}
		require.NoError(t, s.GoOn())
		stop()
		require.True(t, (<-reads).Stopped)
	}
}

// The process that starts commands is gone: the one that ran has failed, and others start without it.
func TestTheProcessThatStartsCommandsIsGone(t *testing.T) {
	startsApart = true
	defer func() { startsApart = false }()
	r := newRunner(t)
	s := spec(t, "echo up; sleep 60")
	over := make(chan Result, 1)
	go func() { over <- r.Run(context.Background(), s) }()
	require.Eventually(t, func() bool {
		running.mu.Lock()
		defer running.mu.Unlock()
		return len(running.all) == 1
	}, 20*time.Second, time.Millisecond)
	require.NoError(t, r.apart.process.Process.Kill())
	require.ErrorContains(t, (<-over).Err, "the process that starts commands has ended")
	require.Equal(t, 3, r.Run(context.Background(), spec(t, "exit 3")).Exit)
	require.NotNil(t, r.apart, "there is another one")
	require.Equal(t, 4, r.Run(context.Background(), spec(t, "exit 4")).Exit)
}

// A process that waits for a share, as it becomes another program, does not tell its environment. Survivors are found
// all the same.
func TestSurvivorsBesideAProcessThatHangs(t *testing.T) {
	s, file := hangingShare(t)
	hangs := exec.Command(os.Args[0])
	hangs.Env = append(os.Environ(), becoming+"="+file)
	in, err := hangs.StdinPipe()
	require.NoError(t, err)
	out, err := hangs.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, hangs.Start())
	said, err := bufio.NewReader(out).ReadString('\n')
	require.NoError(t, err)
	require.Equal(t, "open <nil>\n", said)
	ours, mark := exec.Command("sleep", "60"), t.TempDir()
	ours.Env = []string{"TIDE_LEDGER=" + mark}
	require.NoError(t, ours.Start())
	go func() { _ = ours.Wait() }()
	require.NoError(t, s.Hang())
	require.NoError(t, in.Close())
	require.Eventually(t, func() bool { // it has begun to become the other
		_, err := environ(fmt.Sprint(hangs.Process.Pid))
		return err == os.ErrDeadlineExceeded
	}, 20*time.Second, 10*time.Millisecond)
	ended := make(chan int, 1)
	go func() { ended <- EndSurvivors(mark) }()
	select {
	case n := <-ended:
		require.Equal(t, 1, n)
	case <-time.After(20 * time.Second):
		t.Error("it waits for that process")
	}
	require.NoError(t, s.GoOn())
	require.NoError(t, hangs.Wait())
}

// Words of commands are bytes, and need not be text.
func TestWordsTravel(t *testing.T) {
	for _, words := range [][]string{{}, {""}, {"a", "", "bad\xff", "two words"}} {
		require.Equal(t, words, unlist(list(words)))
	}
}
