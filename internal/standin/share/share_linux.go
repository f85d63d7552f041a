// Package share is a stand-in, for tests, for a share of another machine: it shows a folder
// over FUSE, served by a process of its own. While that process is suspended (SIGSTOP), the
// share does not answer, as one whose server or network is gone.
package share

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"time"

	"github.com/hanwen/go-fuse/v2/fs"
	"github.com/hanwen/go-fuse/v2/fuse"
	"golang.org/x/sys/unix"
)

// variable tells a test's program to serve a share instead: FOLDER, a colon, where it is shown.
const variable = "STILLTIDE_TEST_SHARE"

// Serve serves a share and does not return, if this process was started for it. A test's
// main calls it first.
func Serve() {
	folder, at, ok := cut(os.Getenv(variable))
	if !ok {
		return
	}
	root, err := fs.NewLoopbackRoot(folder)
	if err == nil {
		var server *fuse.Server
		server, err = fs.Mount(at, root,
			&fs.Options{MountOptions: fuse.MountOptions{DirectMountStrict: true, FsName: "share", Name: "share"}})
		if err == nil {
			server.Wait()
			os.Exit(0)
		}
	}
	fmt.Fprintln(os.Stderr, err)
	os.Exit(1)
}

func cut(s string) (folder, at string, ok bool) {
	for i := range len(s) {
		if s[i] == ':' {
			return s[:i], s[i+1:], true
		}
	}
	return "", "", false
}

// Share is a share that is mounted.
type Share struct {
	at     string
	server *exec.Cmd
}

// Mount shows a folder at another one, which must be empty. An error says that this
// process may not mount here.
func Mount(folder, at string) (*Share, error) {
	program, err := os.Executable()
	if err != nil {
		return nil, err
	}
	var said lines
	server := exec.Command(program)
	server.Env = append(os.Environ(), variable+"="+folder+":"+at)
	server.Stderr = &said
	if err := server.Start(); err != nil {
		return nil, err
	}
	s := &Share{at: at, server: server}
	var outside, inside unix.Stat_t
	if err := unix.Stat(filepath.Dir(at), &outside); err != nil {
		return nil, err
	}
	ended := make(chan error, 1)
	go func() { ended <- server.Wait() }() // ends with the server
	for {
		if err := unix.Stat(at, &inside); err == nil && inside.Dev != outside.Dev {
			return s, nil
		}
		select {
		case <-ended:
			return nil, fmt.Errorf("the share cannot be mounted: %s", said)
		case <-time.After(5 * time.Millisecond):
		}
	}
}

type lines []byte

func (l *lines) Write(p []byte) (int, error) { *l = append(*l, p...); return len(p), nil }

// Hang lets the share answer nothing from now on.
func (s *Share) Hang() error { return s.server.Process.Signal(unix.SIGSTOP) }

// GoOn lets it answer again.
func (s *Share) GoOn() error { return s.server.Process.Signal(unix.SIGCONT) }

// Unmount ends it, whether it answers or not: what still waits for it gets an error.
func (s *Share) Unmount() {
	_ = unix.Unmount(s.at, unix.MNT_FORCE|unix.MNT_DETACH)
	_ = s.server.Process.Kill()
}
