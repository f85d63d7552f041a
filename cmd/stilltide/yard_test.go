package main

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stilltide/internal/machine"
)

// builtNode builds the server that tests start, once.
var builtNode = sync.OnceValues(func() (string, error) { return machine.Build("stilltide/internal/standin/node") })

// yard is a watcher's folder, an engine and helpers, as processes on loopback.
type yard struct {
	t         *testing.T
	dir       string
	port      int
	program   string   // the server's, "" for the one that is built here
	addresses []string // of a cluster
	server    *exec.Cmd
	trusted   string // the watcher's public key
	watcher   *watcher
	helpers   map[string]*helper
}

type helper struct {
	*exec.Cmd
	log string
}

// freePort is a port that is free.
func freePort(t *testing.T) int {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port
}

// newYard starts a server. The rules are written below its fleet:.
func newYard(t *testing.T, rules string) *yard {
	t.Helper()
	y := &yard{t: t, dir: t.TempDir(), port: freePort(t), helpers: map[string]*helper{}}
	y.trusted = strings.TrimSpace(run(t, y.dir, "fleet", "make-key", "watcher.nk"))
	run(t, y.dir, "fleet", "make-key", "helper.nk")
	y.rules(rules)
	y.startServer()
	return y
}

func (y *yard) rules(rules string) {
	put(y.t, y.dir, "stilltide.yaml", fmt.Sprintf(`version: 1
fleet: {server: "nats://127.0.0.1:%d", key_file: watcher.nk, lease: 2s}
defaults: {debounce: 0s, retry: {times: 1, delay: 100ms}}
`, y.port)+rules)
}

// edit changes a text in the rules file.
func (y *yard) edit(old, new string) {
	text := y.read("stilltide.yaml")
	require.Contains(y.t, text, old)
	put(y.t, y.dir, "stilltide.yaml", strings.Replace(text, old, new, 1))
}

func (y *yard) startServer() {
	node, err := builtNode()
	require.NoError(y.t, err)
	if y.program != "" {
		node = y.program
	}
	text, err := os.ReadFile("../../docs/fleet/loopback.conf")
	require.NoError(y.t, err)
	conf := strings.Replace(string(text), "4222", fmt.Sprint(y.port), 1)
	put(y.t, y.dir, "engine/server.conf", conf)
	y.server = exec.Command(node, "-c", filepath.Join(y.dir, "engine/server.conf"))
	y.server.Env = append(os.Environ(), "TIDE_STORE="+filepath.Join(y.dir, "engine/store"))
	log, err := os.OpenFile(filepath.Join(y.dir, "engine/log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	require.NoError(y.t, err)
	defer log.Close()
	y.server.Stdout, y.server.Stderr = log, log
	require.NoError(y.t, y.server.Start())
	server := y.server
	y.t.Cleanup(func() { _ = server.Process.Kill(); _ = server.Wait() })
}

func (y *yard) killServer() {
	require.NoError(y.t, y.server.Process.Kill())
	_ = y.server.Wait()
}

// address is where helpers find the engine.
func (y *yard) address() string {
	if y.addresses != nil {
		return strings.Join(y.addresses, ",")
	}
	return fmt.Sprintf("nats://127.0.0.1:%d", y.port)
}

// lend starts a helper.
func (y *yard) lend(name string, args ...string) *helper {
	program, err := built()
	require.NoError(y.t, err)
	h := &helper{log: filepath.Join(y.dir, "lend-"+name+".log")}
	h.Cmd = exec.Command(program, append([]string{"fleet", "lend", "--pool", "heavy", "--name", name, "--workers", "2",
		"--server", y.address(), "--key-file", "helper.nk", "--trust", y.trusted,
		"--folder", "lent-" + name}, args...)...)
	log, err := os.OpenFile(h.log, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	require.NoError(y.t, err)
	defer log.Close()
	h.Dir, h.Stdout, h.Stderr = y.dir, log, log
	require.NoError(y.t, h.Start())
	y.t.Cleanup(func() { _ = h.Process.Kill(); _ = h.Wait() })
	y.helpers[name] = h
	return h
}

func (y *yard) kill(name string) {
	h := y.helpers[name]
	require.NoError(y.t, h.Process.Kill())
	_ = h.Wait()
}

// watch starts the watcher.
func (y *yard) watch() { y.watcher = startWatcher(y.t, y.dir) }

func (y *yard) killWatcher() {
	require.NoError(y.t, y.watcher.cmd.Process.Kill())
	_ = y.watcher.cmd.Wait()
}

// until waits for something.
func (y *yard) until(what string, is func() bool) {
	y.t.Helper()
	if !assert.Eventually(y.t, is, patience, 10*time.Millisecond) {
		y.t.Fatalf("%s; %s", what, y.said())
	}
}

// comes waits for files below the yard's folder.
func (y *yard) comes(names ...string) {
	y.t.Helper()
	for _, name := range names {
		y.until(name+" must come", func() bool {
			_, err := os.Stat(filepath.Join(y.dir, name))
			return err == nil
		})
	}
}

// said is what everybody said.
func (y *yard) said() string {
	var b strings.Builder
	if y.watcher != nil {
		b.WriteString("the watcher:\n" + y.watcher.said())
	}
	for name, h := range y.helpers {
		text, _ := os.ReadFile(h.log)
		fmt.Fprintf(&b, "%s:\n%s", name, text)
	}
	return b.String()
}

func (y *yard) read(name string) string {
	text, err := os.ReadFile(filepath.Join(y.dir, name))
	require.NoError(y.t, err, y.said())
	return string(text)
}

// lines counts the lines of a file, 0 if it is not there.
func (y *yard) lines(name string) int {
	text, _ := os.ReadFile(filepath.Join(y.dir, name))
	return strings.Count(string(text), "\n")
}
