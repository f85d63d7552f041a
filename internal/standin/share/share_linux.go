// Package share is a stand-in, for tests, for a share of another machine: it shows a folder
// over FUSE, served by a process of its own. While that process is suspended (SIGSTOP), the
// share does not answer, as one whose server or network is gone. One that is far away takes
// its time for each answer.
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

// variable tells a test's program to serve a share instead: FOLDER, a colon, where it is shown;
// slowness, how long each answer takes.
const (
	variable = "STILLTIDE_TEST_SHARE"
	slowness = "STILLTIDE_TEST_SHARE_TAKES"
)

// Serve serves a share and does not return, if this process was started for it. A test's
// main calls it first.
func Serve() {
	folder, at, ok := cut(os.Getenv(variable))
	if !ok {
		return
	}
	if err := serve(folder, at, os.Getenv(slowness)); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	os.Exit(0)
}

func serve(folder, at, takes string) error {
	root, err := fs.NewLoopbackRoot(folder)
	if err != nil {
		return err
	}
	system := fs.NewNodeFS(root, &fs.Options{})
	if takes != "" {
		each, err := time.ParseDuration(takes)
		if err != nil {
			return err
		}
		system = far{system, each}
	}
	server, err := fuse.NewServer(system, at, &fuse.MountOptions{DirectMountStrict: true,
		FsName: "share", Name: "share", DisableReadDirPlus: takes != ""})
	if err != nil {
		return err
	}
	server.Serve()
	return nil
}

// far is a share where each answer takes some time. It has no caches: the kernel asks for each name.
type far struct {
	fuse.RawFileSystem
	each time.Duration
}

func (f far) Lookup(cancel <-chan struct{}, h *fuse.InHeader, name string, out *fuse.EntryOut) fuse.Status {
	time.Sleep(f.each)
	return f.RawFileSystem.Lookup(cancel, h, name, out)
}

func (f far) GetAttr(cancel <-chan struct{}, in *fuse.GetAttrIn, out *fuse.AttrOut) fuse.Status {
	time.Sleep(f.each)
	return f.RawFileSystem.GetAttr(cancel, in, out)
}

func (f far) Open(cancel <-chan struct{}, in *fuse.OpenIn, out *fuse.OpenOut) fuse.Status {
	time.Sleep(f.each)
	return f.RawFileSystem.Open(cancel, in, out)
}

func (f far) Rename(cancel <-chan struct{}, in *fuse.RenameIn, from, to string) fuse.Status {
	time.Sleep(f.each)
	return f.RawFileSystem.Rename(cancel, in, from, to)
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
func Mount(folder, at string) (*Share, error) { return MountFar(folder, at, 0) }

// MountFar is Mount for a share where each answer takes some time.
func MountFar(folder, at string, takes time.Duration) (*Share, error) {
	program, err := os.Executable()
	if err != nil {
		return nil, err
	}
	var said lines
	server := exec.Command(program)
	server.Env = append(os.Environ(), variable+"="+folder+":"+at)
	if takes > 0 {
		server.Env = append(server.Env, slowness+"="+takes.String())
	}
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

// Hang lets the share answer nothing from now on: when it returns, all threads of the server are stopped.
func (s *Share) Hang() error {
	if err := s.server.Process.Signal(unix.SIGSTOP); err != nil {
		return err
	}
	for {
		err := unix.Waitid(unix.P_PID, s.server.Process.Pid, nil, unix.WSTOPPED, nil)
		if err != unix.EINTR {
			return err
		}
	}
}

// GoOn lets it answer again.
func (s *Share) GoOn() error { return s.server.Process.Signal(unix.SIGCONT) }

// Unmount ends it, whether it answers or not: what still waits for it gets an error.
func (s *Share) Unmount() {
	_ = unix.Unmount(s.at, unix.MNT_FORCE|unix.MNT_DETACH)
	_ = s.server.Process.Kill()
}
