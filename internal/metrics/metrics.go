// Package metrics serves monitoring on a loopback address: /metrics in the
// OpenMetrics format, and /healthz, which also fails when the watcher runs but
// makes no progress.
package metrics

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"slices"
	"sync/atomic"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

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
	waited  *prometheus.HistogramVec
	ran     *prometheus.HistogramVec
}

// spans are the histograms' bounds, in seconds: from a hundredth to three hours.
var spans = []float64{0.01, 0.03, 0.1, 0.3, 1, 3, 10, 30, 100, 300, 1000, 3000, 10000}

// Serve begins to answer on an address of this machine.
func Serve(address string, w Watcher) (*Server, error) {
	l, err := net.Listen("tcp", address)
	if err != nil {
		return nil, fmt.Errorf("listen: %s cannot be used: %w", address, err)
	}
	s := &Server{
		watcher: w,
		waited: prometheus.NewHistogramVec(prometheus.HistogramOpts{Name: "stilltide_job_wait_seconds",
			Buckets: spans,
			Help:    "Time from a file being taken to the start of its first attempt."}, []string{"rule"}),
		ran: prometheus.NewHistogramVec(prometheus.HistogramOpts{Name: "stilltide_job_run_seconds", Buckets: spans,
			Help: "Running time of all attempts of a job."}, []string{"rule"}),
	}
	registry := prometheus.NewRegistry()
	registry.MustRegister(s.waited, s.ran, gauges{w},
		collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}), collectors.NewGoCollector())
	mux := http.NewServeMux()
	mux.Handle("GET /metrics", promhttp.HandlerFor(registry, promhttp.HandlerOpts{EnableOpenMetrics: true}))
	mux.HandleFunc("GET /healthz", s.health)
	s.http = http.Server{Handler: mux, ReadHeaderTimeout: 5 * time.Second, WriteTimeout: 30 * time.Second,
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
	s.waited.WithLabelValues(j.Rule).Observe(j.Started.Sub(j.Taken).Seconds())
	s.ran.WithLabelValues(j.Rule).Observe(j.Ran.Seconds())
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

var (
	openJobs = prometheus.NewDesc("stilltide_jobs", "Jobs that are not over, by rule and state.",
		[]string{"rule", "state"}, nil)
	ended = prometheus.NewDesc("stilltide_jobs_ended_total",
		"Jobs that are over, by rule and state, over the ledger's whole life.", []string{"rule", "state"}, nil)
	waiting = prometheus.NewDesc("stilltide_settling_files", "Files that have not settled yet, by rule.",
		[]string{"rule"}, nil)
	trouble = prometheus.NewDesc("stilltide_rule_blocked", "1 if a rule is blocked: it needs your attention.",
		[]string{"rule"}, nil)
	paused  = prometheus.NewDesc("stilltide_rule_paused", "1 if a rule is paused.", []string{"rule"}, nil)
	enabled = prometheus.NewDesc("stilltide_rule_enabled", "0 if a rule is off in the rules file.", []string{"rule"},
		nil)
	rejected = prometheus.NewDesc("stilltide_rules_rejected",
		"1 if the rules file has changed and cannot be used, so that the rules from before are in use.", nil, nil)
	present = prometheus.NewDesc("stilltide_folder_present",
		"1 if a watched folder is there, 0 if it is waited for.", []string{"folder"}, nil)
	writable = prometheus.NewDesc("stilltide_ledger_writable",
		"1 if the ledger can be written; nothing starts while it cannot.", nil, nil)
	started = prometheus.NewDesc("stilltide_start_time_seconds",
		"When the watcher was started, in seconds since 1970.", nil, nil)
)

// gauges asks the watcher each time somebody looks.
type gauges struct{ w Watcher }

// Describe names what Collect gives.
func (g gauges) Describe(out chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{openJobs, ended, waiting, trouble, paused, enabled, rejected, present,
		writable, started} {
		out <- d
	}
}

// Collect returns the state of this moment.
func (g gauges) Collect(out chan<- prometheus.Metric) {
	give := func(d *prometheus.Desc, kind prometheus.ValueType, v float64, labels ...string) {
		out <- prometheus.MustNewConstMetric(d, kind, v, labels...)
	}
	flag := func(d *prometheus.Desc, is bool, labels ...string) {
		v := 0.0
		if is {
			v = 1
		}
		give(d, prometheus.GaugeValue, v, labels...)
	}
	tally, err := g.w.Tally()
	if err != nil {
		out <- prometheus.NewInvalidMetric(openJobs, err)
		return
	}
	live, err := g.w.Live()
	if err != nil {
		out <- prometheus.NewInvalidMetric(waiting, err)
		return
	}
	rests := func(rule string) bool {
		_, paused := live.Pauses.Rule(rule)
		return paused
	}
	for rule, counts := range tally {
		if rests(rule) || live.Troubles[rule] != "" { // what is queued is held
			counts[job.Held], counts[job.Queued] = counts[job.Held]+counts[job.Queued], 0
		}
		for state, n := range counts {
			if state.Final() {
				give(ended, prometheus.CounterValue, float64(n), rule, string(state))
			} else {
				give(openJobs, prometheus.GaugeValue, float64(n), rule, string(state))
			}
		}
	}
	for _, rule := range live.Names {
		give(waiting, prometheus.GaugeValue, float64(live.Settling[rule]), rule)
		flag(trouble, live.Troubles[rule] != "", rule)
		flag(paused, rests(rule), rule)
		flag(enabled, !slices.Contains(live.Disabled, rule), rule)
	}
	flag(rejected, live.Rejected != "")
	for folder, f := range live.Folders {
		flag(present, !f.Absent, folder)
	}
	flag(writable, live.Trouble == "")
	give(started, prometheus.GaugeValue, float64(live.Started.UnixNano())/1e9)
}
