// Package metrics serves monitoring on a loopback address: /metrics in the OpenMetrics format
// (version 1.0, or the text format 0.0.4 for those who do not ask for it), and /healthz, which also
// fails when the watcher runs but makes no progress.
package metrics

import (
	"context"
	"fmt"
	"maps"
	"net"
	"net/http"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"stilltide/internal/core/job"
	"stilltide/internal/watcher"
)

// answerWithin is how long the watcher's loop may take to answer /healthz.
const answerWithin = 5 * time.Second

// Watcher is what the server asks.
type Watcher interface {
	Live() (watcher.Live, error)
	Tally() (map[string]map[job.State]int, error)
	Alive(within time.Duration) bool
}

// Server answers until Close.
type Server struct {
	http    http.Server
	watcher Watcher

	mu    sync.Mutex
	times map[string]*times // of the jobs that are over, by rule
}

// times are how long a rule's jobs waited and ran.
type times struct{ waited, ran spread }

// Serve begins to answer on an address of this machine.
func Serve(address string, w Watcher) (*Server, error) { return serveWith(address, w, 5*time.Second) }

// serveWith closes the connections on which nothing was asked for that long.
func serveWith(address string, w Watcher, silence time.Duration) (*Server, error) {
	l, err := net.Listen("tcp", address)
	if err != nil {
		return nil, fmt.Errorf("listen: %s cannot be used: %w", address, err)
	}
	s := &Server{watcher: w, times: map[string]*times{}}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /metrics", s.answer)
	mux.HandleFunc("GET /healthz", s.health)
	s.http = http.Server{Handler: mux, ReadHeaderTimeout: silence, WriteTimeout: 30 * time.Second,
		IdleTimeout: 10 * time.Second, ConnState: atMost(maxConnections)}
	go s.http.Serve(l) // ends with Close
	return s, nil
}

// maxConnections bounds the connections that are open at once, so that no client can use up
// the files that the watcher needs.
const maxConnections = 64

// atMost closes connections that are one too many.
func atMost(n int64) func(net.Conn, http.ConnState) {
	var open atomic.Int64
	return func(c net.Conn, s http.ConnState) {
		switch s {
		case http.StateNew:
			if open.Add(1) > n {
				c.Close()
			}
		case http.StateClosed, http.StateHijacked:
			open.Add(-1)
		}
	}
}

// Ended notes the times of a job that is over.
func (s *Server) Ended(j job.Job) {
	if !j.State.Final() || j.Started.IsZero() {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	of := s.times[j.Rule]
	if of == nil {
		of = &times{}
		s.times[j.Rule] = of
	}
	of.waited.add(j.Started.Sub(j.Taken).Seconds())
	of.ran.add(j.Ran.Seconds())
}

// health answers 200 if the watcher can do its work, 503 and why not otherwise.
func (s *Server) health(w http.ResponseWriter, _ *http.Request) {
	why := ""
	if !s.watcher.Alive(answerWithin) {
		why = fmt.Sprintf("the watcher's main loop has not responded for %s", answerWithin)
	} else if live, err := s.watcher.Live(); err != nil {
		why = err.Error()
	} else {
		why = live.Trouble
	}
	if why != "" {
		http.Error(w, why, http.StatusServiceUnavailable)
		return
	}
	fmt.Fprintln(w, "ok")
}

// Close stops answering.
func (s *Server) Close() {
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	if s.http.Shutdown(ctx) != nil {
		s.http.Close()
	}
}

// answer writes the page: the state of this moment.
func (s *Server) answer(w http.ResponseWriter, r *http.Request) {
	tally, err := s.watcher.Tally()
	var live watcher.Live
	if err == nil {
		live, err = s.watcher.Live()
	}
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	p := &page{open: strings.Contains(r.Header.Get("Accept"), openMetrics)}
	kind := plainType
	if p.open {
		kind = openType
	}
	w.Header().Set("Content-Type", kind)
	p.jobs(tally, live)
	p.rules(live)
	p.watcher(live)
	s.spreads(p)
	p.process()
	_ = p.end(w) // to whoever has gone nothing more can be said
}

// jobs counts the jobs by rule and state.
func (p *page) jobs(tally map[string]map[job.State]int, live watcher.Live) {
	names := slices.Sorted(maps.Keys(tally))
	each := func(final bool) {
		for _, rule := range names {
			counts := maps.Clone(tally[rule])
			if rests(live, rule) || live.Troubles[rule] != "" { // what is queued is held
				counts[job.Held], counts[job.Queued] = counts[job.Held]+counts[job.Queued], 0
			}
			for _, state := range job.States {
				if n, ok := counts[state]; ok && state.Final() == final {
					p.series(float64(n), "rule", rule, "state", string(state))
				}
			}
		}
	}
	p.metric("stilltide_jobs", gauge, "Jobs that are not over, by rule and state.")
	each(false)
	p.metric("stilltide_jobs_ended_total", counter,
		"Jobs that are over, by rule and state, over the ledger's whole life.")
	each(true)
}

func rests(live watcher.Live, rule string) bool {
	_, paused := live.Pauses.Rule(rule)
	return paused
}

// flag is 1 for yes.
func flag(is bool) float64 {
	if is {
		return 1
	}
	return 0
}

// rules tells how each rule stands.
func (p *page) rules(live watcher.Live) {
	each := func(name, help string, value func(rule string) float64) {
		p.metric(name, gauge, help)
		for _, rule := range live.Names {
			p.series(value(rule), "rule", rule)
		}
	}
	each("stilltide_settling_files", "Files that have not settled yet, by rule.",
		func(rule string) float64 { return float64(live.Settling[rule]) })
	each("stilltide_rule_blocked", "1 if a rule is blocked: it needs your attention.",
		func(rule string) float64 { return flag(live.Troubles[rule] != "") })
	each("stilltide_rule_paused", "1 if a rule is paused.",
		func(rule string) float64 { return flag(rests(live, rule)) })
	each("stilltide_rule_enabled", "0 if a rule is off in the rules file.",
		func(rule string) float64 { return flag(!slices.Contains(live.Disabled, rule)) })
}

// watcher tells how the watcher itself stands.
func (p *page) watcher(live watcher.Live) {
	p.metric("stilltide_rules_rejected", gauge,
		"1 if the rules file has changed and cannot be used, so that the rules from before are in use.")
	p.series(flag(live.Rejected != ""))
	p.metric("stilltide_folder_present", gauge, "1 if a watched folder is there, 0 if it is waited for.")
	for _, folder := range slices.Sorted(maps.Keys(live.Folders)) {
		p.series(flag(!live.Folders[folder].Absent), "folder", folder)
	}
	p.metric("stilltide_ledger_writable", gauge, "1 if the ledger can be written; nothing starts while it cannot.")
	p.series(flag(live.Trouble == ""))
	p.metric("stilltide_start_time_seconds", gauge, "When the watcher was started, in seconds since 1970.")
	p.series(float64(live.Started.UnixNano()) / 1e9)
}

// spreads tells how long jobs took.
func (s *Server) spreads(p *page) {
	s.mu.Lock()
	defer s.mu.Unlock()
	names := slices.Sorted(maps.Keys(s.times))
	p.metric("stilltide_job_wait_seconds", histogram,
		"Time from a file being taken to the start of its first attempt.")
	for _, rule := range names {
		p.spread(&s.times[rule].waited, "rule", rule)
	}
	p.metric("stilltide_job_run_seconds", histogram, "Running time of all attempts of a job.")
	for _, rule := range names {
		p.spread(&s.times[rule].ran, "rule", rule)
	}
}

// process tells what the program takes, under the names that are usual for it.
func (p *page) process() {
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	p.metric("go_goroutines", gauge, "Goroutines that exist.")
	p.series(float64(runtime.NumGoroutine()))
	p.metric("go_memstats_heap_alloc_bytes", gauge, "Bytes of the heap that are in use.")
	p.series(float64(m.HeapAlloc))
	u, ok := used()
	if !ok {
		return
	}
	p.metric("process_cpu_seconds_total", counter, "Time of processors that was taken, of user and system.")
	p.series(u.processor.Seconds())
	p.metric("process_resident_memory_bytes", gauge, "Memory that the process has now.")
	p.series(float64(u.memory))
	p.metric("process_open_fds", gauge, "Files that are open.")
	p.series(float64(u.files))
	p.metric("process_max_fds", gauge, "Files that may be open at once.")
	p.series(float64(u.most))
}

// usage is what a process takes of the machine.
type usage struct {
	processor   time.Duration
	memory      int64 // bytes
	files, most int
}
