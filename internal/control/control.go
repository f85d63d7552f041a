// Package control is the socket through which other commands talk to a running
// watcher: HTTP with JSON on a Unix socket in the state folder, open to its
// owner only.
//
// Any process may read the ledger beside the watcher; the socket is for what
// only the watcher knows and for what only it may change.
package control

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"time"

	"stilltide/internal/byhand"
	"stilltide/internal/core/turn"
	"stilltide/internal/watcher"
)

// ErrNobody says that no watcher answers.
var ErrNobody = errors.New("no watcher runs here")

// longest is the longest path that a socket address holds on all systems (unix(7): 108 with its end).
const longest = 100

// Path returns the socket's path for a state folder. Where that is too long for
// a socket address, the socket is in the user's runtime folder under a hashed name.
func Path(state string) string {
	path := filepath.Join(state, "control.sock")
	if len(path) <= longest {
		return path
	}
	sum := sha256.Sum256([]byte(state))
	return filepath.Join(runtimeFolder(), "stilltide-"+hex.EncodeToString(sum[:8])+".sock")
}

// runtimeFolder is a folder of this user's own.
func runtimeFolder() string {
	if folder := os.Getenv("XDG_RUNTIME_DIR"); folder != "" {
		return folder
	}
	return filepath.Join(os.TempDir(), fmt.Sprintf("stilltide-%d", os.Getuid()))
}

// own makes the folder of a socket if it is missing, and checks that no other user can have
// prepared it.
func own(folder string) error {
	if err := os.Mkdir(folder, 0o700); err != nil && !errors.Is(err, os.ErrExist) {
		return err
	}
	info, err := os.Lstat(folder)
	switch {
	case err != nil:
		return err
	case !info.IsDir() || !ours(info):
		return fmt.Errorf("%s is not a folder of this user", folder)
	case info.Mode().Perm()&0o022 != 0:
		return fmt.Errorf("other users can write to %s", folder)
	}
	return nil
}

// Watcher is what the server asks.
type Watcher interface {
	Live() (watcher.Live, error)
	Retry(id int64) byhand.Sent
	Cancel(id int64) byhand.Sent
	Undo(id int64) byhand.Sent
	Dismiss(id int64) byhand.Sent
	Pause(names []string, paused bool, until time.Time) error
	Sweep(ctx context.Context, chosen turn.Chosen, tell func([]turn.Outcome) error) error
	CatchUp() error
}

// Server answers on the socket. Close ends it.
type Server struct {
	http http.Server
	path string
}

// Serve begins to answer. The caller holds the ledger, so a socket that is
// there already is left from a crash.
func Serve(state string, w Watcher) (*Server, error) {
	path := Path(state)
	if folder := filepath.Dir(path); folder != state {
		if err := own(folder); err != nil {
			return nil, fmt.Errorf("the control socket cannot be made: %w", err)
		}
	}
	if err := os.Remove(path); err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, fmt.Errorf("the control socket cannot be made: %w", err)
	}
	l, err := net.Listen("unix", path)
	if err != nil {
		return nil, fmt.Errorf("the control socket cannot be made: %w", err)
	}
	if err := os.Chmod(path, 0o600); err != nil {
		l.Close()
		return nil, err
	}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /live", func(rw http.ResponseWriter, _ *http.Request) {
		live, err := w.Live()
		answer(rw, live, err)
	})
	mux.HandleFunc("POST /retry", each(w.Retry))
	mux.HandleFunc("POST /cancel", each(w.Cancel))
	mux.HandleFunc("POST /undo", each(w.Undo))
	mux.HandleFunc("POST /dismiss", each(w.Dismiss))
	mux.HandleFunc("POST /catch-up", func(rw http.ResponseWriter, _ *http.Request) {
		answer(rw, true,
			w.CatchUp())
	})
	mux.HandleFunc("POST /sweep", sweep(w))
	mux.HandleFunc("POST /pause", rules(w, true))
	mux.HandleFunc("POST /resume", rules(w, false))
	s := &Server{path: path, http: http.Server{Handler: mux, ReadHeaderTimeout: 5 * time.Second}}
	go s.http.Serve(l) // ends with Close
	return s, nil
}

// each answers a list of job numbers with what became of each.
func each(do func(id int64) byhand.Sent) http.HandlerFunc {
	return func(rw http.ResponseWriter, r *http.Request) {
		var ids []int64
		if err := json.NewDecoder(r.Body).Decode(&ids); err != nil {
			answer(rw, nil, err)
			return
		}
		sent := make([]byhand.Sent, len(ids))
		for i, id := range ids {
			sent[i] = do(id)
		}
		answer(rw, sent, nil)
	}
}

// swept is a part of the answer to a sweep: some outcomes, or how it ended.
type swept struct {
	Outcomes []turn.Outcome `json:"outcomes,omitempty"`
	Over     bool           `json:"over,omitempty"`
	Err      string         `json:"error,omitempty"`
}

// sweep answers with what becomes of the jobs, as it happens.
func sweep(w Watcher) http.HandlerFunc {
	return func(rw http.ResponseWriter, r *http.Request) {
		var chosen turn.Chosen
		if err := json.NewDecoder(r.Body).Decode(&chosen); err != nil {
			answer(rw, nil, err)
			return
		}
		out, flush := json.NewEncoder(rw), http.NewResponseController(rw)
		send := func(part swept) error { return errors.Join(out.Encode(part), flush.Flush()) }
		end := swept{Over: true}
		if err := w.Sweep(r.Context(), chosen, func(list []turn.Outcome) error {
			return send(swept{Outcomes: list})
		}); err != nil {
			end.Err = err.Error()
		}
		_ = send(end) // who asked may be gone
	}
}

// pauses is what is paused, and until when.
type pauses struct {
	Names []string  `json:"names"`
	Until time.Time `json:"until"`
}

// rules pauses the named rules, or lets them go on; none means all.
func rules(w Watcher, paused bool) http.HandlerFunc {
	return func(rw http.ResponseWriter, r *http.Request) {
		var what pauses
		if err := json.NewDecoder(r.Body).Decode(&what); err != nil {
			answer(rw, nil, err)
			return
		}
		answer(rw, what, w.Pause(what.Names, paused, what.Until))
	}
}

func answer(w http.ResponseWriter, v any, err error) {
	if err != nil {
		http.Error(w, err.Error(), http.StatusServiceUnavailable)
		return
	}
	w.Header().Set("Content-Type", "application/json")
	json.NewEncoder(w).Encode(v)
}

// Close stops answering and removes the socket.
func (s *Server) Close() {
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	if s.http.Shutdown(ctx) != nil {
		s.http.Close()
	}
	os.Remove(s.path)
}

// Client asks a running watcher.
type Client struct {
	http http.Client
}

// Dial makes a client for the watcher of a state folder.
func Dial(state string) *Client {
	path := Path(state)
	return &Client{http.Client{Timeout: time.Minute, Transport: &http.Transport{
		DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
			if info, err := os.Lstat(path); filepath.Dir(path) != state && err == nil && !ours(info) {
				return nil, fmt.Errorf("%s is another user's", path)
			}
			return (&net.Dialer{}).DialContext(ctx, "unix", path)
		},
	}}}
}

// Live asks for what only the watcher knows.
func (c *Client) Live() (watcher.Live, error) {
	var l watcher.Live
	return l, c.call(http.MethodGet, "/live", nil, &l)
}

// Retry retries jobs.
func (c *Client) Retry(ids []int64) ([]byhand.Sent, error) {
	var sent []byhand.Sent
	return sent, c.call(http.MethodPost, "/retry", ids, &sent)
}

// Cancel takes jobs out of the queue, or stops them.
func (c *Client) Cancel(ids []int64) ([]byhand.Sent, error) {
	var sent []byhand.Sent
	return sent, c.call(http.MethodPost, "/cancel", ids, &sent)
}

// Undo puts back what jobs placed.
func (c *Client) Undo(ids []int64) ([]byhand.Sent, error) {
	var sent []byhand.Sent
	return sent, c.call(http.MethodPost, "/undo", ids, &sent)
}

// Dismiss notes that somebody has seen that jobs failed.
func (c *Client) Dismiss(ids []int64) ([]byhand.Sent, error) {
	var sent []byhand.Sent
	return sent, c.call(http.MethodPost, "/dismiss", ids, &sent)
}

// Sweep has the watcher look through its folders, and tells of the jobs of what is chosen as
// they end, until none is left.
func (c *Client) Sweep(ctx context.Context, chosen turn.Chosen, tell func([]turn.Outcome)) error {
	text, err := json.Marshal(chosen)
	if err != nil {
		return err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, "http://stilltide/sweep", bytes.NewReader(text))
	if err != nil {
		return err
	}
	long := http.Client{Transport: c.http.Transport} // it takes as long as the jobs do
	res, err := long.Do(req)
	if err != nil {
		return fmt.Errorf("%w: %v", ErrNobody, err)
	}
	defer res.Body.Close()
	if res.StatusCode != http.StatusOK {
		text, _ := io.ReadAll(io.LimitReader(res.Body, 1<<10)) // without one the status says it
		return fmt.Errorf("the watcher could not do that: %s %s", res.Status, bytes.TrimSpace(text))
	}
	for in := json.NewDecoder(res.Body); ; {
		var part swept
		if err := in.Decode(&part); err != nil {
			return errors.New("the watcher ended meanwhile; what is left waits for the next one")
		}
		if part.Err != "" {
			return errors.New(part.Err)
		}
		if part.Over {
			return nil
		}
		tell(part.Outcomes)
	}
}

// Pause pauses rules and folders until a time (see job.Pauses), or lets them go on; no names mean
// all.
func (c *Client) Pause(names []string, paused bool, until time.Time) error {
	path := "/resume"
	if paused {
		path = "/pause"
	}
	var done pauses
	return c.call(http.MethodPost, path, pauses{names, until}, &done)
}

// patience is how long a reader of the ledger waits for the watcher.
const patience = 3 * time.Second

// CatchUp has the watcher bring the ledger's tables up to date, for callers that read
// them right afterwards.
func (c *Client) CatchUp() error {
	soon := Client{http.Client{Timeout: patience, Transport: c.http.Transport}}
	var done bool
	return soon.call(http.MethodPost, "/catch-up", nil, &done)
}

func (c *Client) call(method, path string, in, out any) error {
	body, err := json.Marshal(in)
	if err != nil {
		return err
	}
	req, err := http.NewRequest(method, "http://stilltide"+path, bytes.NewReader(body))
	if err != nil {
		return err
	}
	res, err := c.http.Do(req)
	if err != nil {
		return fmt.Errorf("%w: %v", ErrNobody, err)
	}
	defer res.Body.Close()
	if res.StatusCode != http.StatusOK {
		var text bytes.Buffer
		text.ReadFrom(res.Body)
		return fmt.Errorf("the watcher could not do that: %s", bytes.TrimSpace(text.Bytes()))
	}
	return json.NewDecoder(res.Body).Decode(out)
}
