package runner

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"os/signal"
	"runtime"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"
)

// A child that becomes its program closes the descriptors that it has inherited, and to close a file
// of another machine or program asks that one. While it does not answer the child waits, and with it
// all other starts (syscall.ForkLock). So a watcher that has such files open does not start commands
// itself: a second process of this program does, which has none of them.

// Starts is the argument by which this program serves another process of its own (see ServeStarts).
const Starts = "start-commands"

// startsSocket is where that process is asked: the first descriptor after standard error.
const startsSocket = 3

// starter is that process, as the one sees it that asks for commands. It ends when ask is closed.
type starter struct {
	process *exec.Cmd
	ask     *os.File
}

// request asks for a command. It comes on a connection of its own, with the command's files; the
// answers are true, before it begins, a started and, if there is no error, an end.
type request struct {
	Path, Dir, In []byte // names need not be text
	Far           bool
	Env, Args     []byte // each ends with a zero byte
}

// list makes one of many words, and unlist the opposite.
func list(words []string) (all []byte) {
	for _, word := range words {
		all = append(append(all, word...), 0)
	}
	return all
}

func unlist(words []byte) []string {
	all := strings.Split(string(words), "\x00")
	return all[:len(all)-1]
}

type started struct {
	PID   int
	Errno syscall.Errno // 0 if it has started
}

type end struct {
	Result        // but for Err
	Text   string // of Err
}

// Apart has commands started by a process of their own from now on. It is for a program that calls ServeStarts. If
// that process cannot be had, all stays as it was.
func (r *Runner) Apart() {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.apart != nil {
		return
	}
	s, err := newStarter()
	if err == nil {
		r.apart = s
	}
}

// Close ends that process. No command may run any more.
func (r *Runner) Close() {
	if s := r.starter(); s != nil {
		r.drop(s)
	}
}

func (r *Runner) starter() *starter {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.apart
}

// drop ends that process, if it still is the one that is asked.
func (r *Runner) drop(s *starter) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.apart == s {
		s.close()
		r.apart = nil
	}
}

func newStarter() (*starter, error) {
	pair, err := unix.Socketpair(unix.AF_UNIX, unix.SOCK_SEQPACKET|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return nil, err
	}
	there := os.NewFile(uintptr(pair[1]), "starts")
	defer there.Close()
	s := &starter{ask: os.NewFile(uintptr(pair[0]), "starts")}
	s.process = exec.Command("/proc/self/exe", Starts)
	s.process.Args[0] = os.Args[0]
	s.process.Stderr, s.process.ExtraFiles = os.Stderr, []*os.File{there}
	s.process.SysProcAttr = &syscall.SysProcAttr{Setpgid: true} // Ctrl-C is for the watcher
	if err := s.process.Start(); err != nil {
		s.ask.Close()
		return nil, err
	}
	return s, nil
}

func (s *starter) close() {
	s.ask.Close()
	_ = s.process.Wait()
}

// errGone says that the process which starts commands has ended.
var errGone = errors.New("the process that starts commands has ended")

// start starts a command. done is false if that process has not begun to.
func (s *starter) start(c command, args []string) (_ process, done bool, err error) {
	pair, err := unix.Socketpair(unix.AF_UNIX, unix.SOCK_STREAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return nil, false, err
	}
	asks := os.NewFile(uintptr(pair[0]), "command")
	rights := unix.UnixRights(pair[1], int(c.files[0]), int(c.files[1]), int(c.files[2]))
	err = unix.Sendmsg(int(s.ask.Fd()), []byte{1}, rights, nil, unix.MSG_NOSIGNAL)
	unix.Close(pair[1])
	if err != nil {
		asks.Close()
		return nil, false, err
	}
	answers, begins, is := json.NewDecoder(asks), false, started{}
	err = json.NewEncoder(asks).Encode(request{[]byte(c.path), []byte(c.dir), []byte(c.in), c.far, list(c.env),
		list(args)})
	if err == nil {
		err = answers.Decode(&begins)
	}
	if err == nil {
		err = answers.Decode(&is)
	}
	switch {
	case err != nil:
		err = errGone
	case is.Errno != 0:
		err = is.Errno
	}
	if err != nil {
		asks.Close()
		return nil, begins, err
	}
	return &elsewhere{is.PID, asks, answers}, true, nil
}

// elsewhere is a command that the other process has started.
type elsewhere struct {
	id      int
	asks    io.Closer
	answers *json.Decoder
}

func (e *elsewhere) pid() int { return e.id }

func (e *elsewhere) wait(bool) Result {
	defer e.asks.Close()
	var over end
	if err := e.answers.Decode(&over); err != nil {
		return Result{Exit: 127, Err: fmt.Errorf("waiting for the command failed: %w", errGone)}
	}
	if over.Text != "" {
		over.Err = errors.New(over.Text)
	}
	return over.Result
}

// start starts a command, in the process for that if there is one. A terminal stays with this one.
func (r *Runner) start(c command, args []string) (process, error) {
	s := r.starter()
	if s == nil || c.terminal {
		return start(c, args)
	}
	p, done, err := s.start(c, args)
	if !done {
		r.drop(s)
		r.Apart() // for the next
		return start(c, args)
	}
	return p, err
}

// ServeStarts starts commands for the process that this one was made for, until that ends. It returns false at once if
// this process was not made for that.
func ServeStarts() bool {
	kind, err := unix.GetsockoptInt(startsSocket, unix.SOL_SOCKET, unix.SO_TYPE)
	if err != nil || kind != unix.SOCK_SEQPACKET {
		return false
	}
	unix.CloseOnExec(startsSocket)
	signal.Notify(make(chan os.Signal, 1), syscall.SIGINT, syscall.SIGTERM, syscall.SIGHUP) // it ends after the other
	for {
		files, err := received()
		if err != nil {
			return true // and its children end with it
		}
		go serve(files) // ends with the command
	}
}

// received waits for a request: a connection, and a command's files.
func received() ([]int, error) {
	data, rights := make([]byte, 1), make([]byte, unix.CmsgSpace(4*4))
	for {
		n, m, _, _, err := unix.Recvmsg(startsSocket, data, rights, unix.MSG_CMSG_CLOEXEC)
		if err == unix.EINTR {
			continue
		}
		if err != nil || n == 0 {
			return nil, io.EOF
		}
		messages, err := unix.ParseSocketControlMessage(rights[:m])
		if err != nil || len(messages) != 1 {
			return nil, io.EOF
		}
		files, err := unix.ParseUnixRights(&messages[0])
		if err != nil || len(files) != 4 {
			return nil, io.EOF
		}
		return files, nil
	}
}

// serve starts a command, waits for it, and says both.
func serve(files []int) {
	asks := os.NewFile(uintptr(files[0]), "command")
	defer asks.Close()
	c := command{files: [3]descriptor{descriptor(files[1]), descriptor(files[2]), descriptor(files[3])}}
	var q request
	if json.NewDecoder(asks).Decode(&q) != nil {
		closeAll(c.files[:])
		return
	}
	c.path, c.dir, c.in, c.far, c.env = string(q.Path), string(q.Dir), string(q.In), q.Far, unlist(q.Env)
	answers := json.NewEncoder(asks)
	if answers.Encode(true) != nil {
		closeAll(c.files[:])
		return // the other process is gone, and this one about to end
	}
	runtime.LockOSThread() // see the package comment
	defer runtime.UnlockOSThread()
	child, err := start(c, unlist(q.Args))
	closeAll(c.files[:])
	is := started{PID: child.pid()}
	if err != nil && !errors.As(err, &is.Errno) {
		is.Errno = syscall.EIO
	}
	_ = answers.Encode(is)
	if err != nil {
		return
	}
	res := child.wait(false)
	e := end{Result: res}
	if e.Err != nil {
		e.Text, e.Err = res.Err.Error(), nil
	}
	_ = answers.Encode(e)
}
