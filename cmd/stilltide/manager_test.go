package main

import (
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// The real watcher, started as a service would start it, tells a stand-in for
// the manager that it is ready, alive and stopping; its commands do not get
// the manager's socket, and its lines carry no time of their own.
func TestAsAService(t *testing.T) {
	t.Parallel()
	if runtime.GOOS == "windows" {
		t.Skip("there are no such sockets here")
	}
	program, err := built()
	require.NoError(t, err)
	dir := t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(dir, "in"), 0o777))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "in", "a"), nil, 0o666))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "stilltide.yaml"), []byte(`version: 1
rules: [{name: r, watch: in, debounce: 0s, script: 'env > env.txt', processed: done}]
`), 0o666))
	path := filepath.Join(dir, "notify")
	socket, err := net.ListenUnixgram("unixgram", &net.UnixAddr{Name: path, Net: "unixgram"})
	require.NoError(t, err)
	defer socket.Close()
	var printed strings.Builder
	watcher := exec.Command(program, "--config", filepath.Join(dir, "stilltide.yaml"), "watch")
	watcher.Stdout, watcher.Stderr = &printed, &printed
	watcher.Env = append(os.Environ(), "NOTIFY_SOCKET="+path, "WATCHDOG_USEC=300000", "JOURNAL_STREAM=8:1")
	require.NoError(t, watcher.Start())
	read := func() string {
		buf := make([]byte, 500)
		require.NoError(t, socket.SetReadDeadline(time.Now().Add(patience)))
		n, err := socket.Read(buf)
		require.NoError(t, err)
		return string(buf[:n])
	}
	require.Equal(t, "READY=1\nSTATUS=1 rule", read())
	require.Equal(t, "WATCHDOG=1", read())
	require.Equal(t, "WATCHDOG=1", read())
	require.Eventually(t, func() bool { _, err := os.Stat(filepath.Join(dir, "done", "a")); return err == nil },
		patience, 10*time.Millisecond)
	require.NoError(t, watcher.Process.Signal(syscall.SIGTERM))
	said := ""
	for !strings.Contains(said, "STOPPING=1") {
		said += read() + "\n"
	}
	require.NoError(t, watcher.Wait())
	env, err := os.ReadFile(filepath.Join(dir, "env.txt"))
	require.NoError(t, err)
	require.NotContains(t, string(env), "NOTIFY_SOCKET")
	require.NotContains(t, string(env), "WATCHDOG_USEC")
	require.Contains(t, printed.String(), "\nr  a ")
}
