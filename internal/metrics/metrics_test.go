package metrics

import (
	"io"
	"net"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/prometheus/prometheus/model/labels"
	"github.com/prometheus/prometheus/model/textparse"
	"github.com/stretchr/testify/require"

	"stilltide/internal/core/job"
	"stilltide/internal/watcher"
)

// quiet is a watcher that says what a test wants.
type quiet struct {
	live  watcher.Live
	stuck bool
}

func (w *quiet) Live() (watcher.Live, error)     { return w.live, nil }
func (w *quiet) Alive(within time.Duration) bool { return !w.stuck }
func (w *quiet) Tally() (map[string]map[job.State]int, error) {
	return map[string]map[job.State]int{"slips \"x\"": {job.Queued: 3, job.Processed: 40}}, nil
}

func serve(t *testing.T, w Watcher) (*Server, string) {
	address := free(t)
	s, err := Serve(address, w)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	return s, "http://" + address
}

// free is an address that nothing listens at.
func free(t *testing.T) string {
	free, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer free.Close()
	return free.Addr().String()
}

func get(t *testing.T, url, accept string) (int, string, string) {
	req, err := http.NewRequest(http.MethodGet, url, nil)
	require.NoError(t, err)
	req.Header.Set("Accept", accept)
	res, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer res.Body.Close()
	body, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	return res.StatusCode, res.Header.Get("Content-Type"), string(body)
}

// The page is read by a parser that shares no code with what wrote it.
func TestThePageIsOpenMetrics(t *testing.T) {
	w := &quiet{live: watcher.Live{Started: time.Unix(1_900_000_000, 0), Names: []string{`slips "x"`},
		Settling: map[string]int{`slips "x"`: 2},
		Folders:  map[string]watcher.Folder{"/mnt/card": {Absent: true}}, Pauses: job.Pauses{"": {}},
		Disabled: []string{`slips "x"`}, Rejected: "2 errors"}}
	s, url := serve(t, w)
	s.Ended(job.Job{Rule: "slips", State: job.Processed, Taken: time.Unix(100, 0), Started: time.Unix(102, 0),
		Ran: time.Minute})
	status, kind, body := get(t, url+"/metrics", "application/openmetrics-text; version=1.0.0")
	require.Equal(t, http.StatusOK, status)
	require.Contains(t, kind, "application/openmetrics-text; version=1.0.0")
	got := read(t, textparse.NewOpenMetricsParser([]byte(body), labels.NewSymbolTable()))
	for series, want := range map[string]float64{
		`{__name__="stilltide_jobs", rule="slips \"x\"", state="queued"}`:                0,
		`{__name__="stilltide_jobs", rule="slips \"x\"", state="held"}`:                  3, // all rules are paused
		`{__name__="stilltide_rule_enabled", rule="slips \"x\""}`:                        0,
		`{__name__="stilltide_rules_rejected"}`:                                          1,
		`{__name__="stilltide_jobs_ended_total", rule="slips \"x\"", state="processed"}`: 40,
		`{__name__="stilltide_settling_files", rule="slips \"x\""}`:                      2,
		`{__name__="stilltide_rule_paused", rule="slips \"x\""}`:                         1,
		`{__name__="stilltide_folder_present", folder="/mnt/card"}`:                      0,
		`{__name__="stilltide_ledger_writable"}`:                                         1,
		`{__name__="stilltide_start_time_seconds"}`:                                      1_900_000_000,
		`{__name__="stilltide_job_wait_seconds_sum", rule="slips"}`:                      2,
		`{__name__="stilltide_job_run_seconds_bucket", le="100.0", rule="slips"}`:        1,
		`{__name__="stilltide_job_run_seconds_bucket", le="30.0", rule="slips"}`:         0,
	} {
		value, ok := got[series]
		require.True(t, ok, "%s is not there:\n%s", series, body)
		require.Equal(t, want, value, series)
	}
}

// read gives the series of a page.
func read(t *testing.T, p textparse.Parser) map[string]float64 {
	got := map[string]float64{}
	for {
		entry, err := p.Next()
		if err == io.EOF {
			return got
		}
		require.NoError(t, err)
		if entry != textparse.EntrySeries {
			continue
		}
		_, _, value := p.Series()
		var l labels.Labels
		p.Labels(&l)
		require.NotContains(t, got, l.String(), "a series stands once")
		got[l.String()] = value
	}
}

// Whatever rules and folders are called, both forms of the page can be read and say the same.
func TestBothFormsSayTheSame(t *testing.T) {
	names := []string{"plain", "slips \"x\"", `back\slash`, "line\nbreak", "{a=\"b\"}", "bad\xff\xfeutf", "é ü 漢",
		"# EOF", ""}
	live := watcher.Live{Started: time.Unix(1_900_000_000, 5), Names: names, Settling: map[string]int{},
		Folders: map[string]watcher.Folder{}, Troubles: map[string]string{names[1]: "it loops"}}
	for i, name := range names {
		live.Settling[name] = i * 1_000_003
		live.Folders["/in/"+name] = watcher.Folder{Absent: i%2 == 0}
	}
	s, url := serve(t, &quiet{live: live})
	for i, name := range names {
		for n := range 40 {
			s.Ended(job.Job{Rule: name, State: job.Failed, Taken: time.Unix(100, 0),
				Started: time.Unix(100, int64(n)*1e8), Ran: time.Duration(1) << (n * i / 8)})
		}
	}
	_, kind, text := get(t, url+"/metrics", "")
	require.Equal(t, "text/plain; version=0.0.4; charset=utf-8", kind)
	_, _, open := get(t, url+"/metrics", "application/openmetrics-text;version=1.0.0;q=0.5,*/*;q=0.1")
	plain := read(t, textparse.NewPromParser([]byte(text), labels.NewSymbolTable(), false))
	opened := read(t, textparse.NewOpenMetricsParser([]byte(open), labels.NewSymbolTable()))
	require.Greater(t, len(opened), 300)
	require.Equal(t, len(opened), len(plain))
	for series, value := range opened {
		if strings.Contains(series, "process_") || strings.Contains(series, "go_") {
			continue
		}
		other, ok := plain[series]
		require.True(t, ok, "%s is not in\n%s", series, text)
		require.Equal(t, value, other, series)
	}
}

// The buckets of a histogram count what does not exceed their bounds, and so does the last.
func TestSpreadsCountAll(t *testing.T) {
	t.Parallel()
	var s spread
	for _, v := range []float64{0, 0.01, 0.011, 1, 9999, 10_000, 10_001, 1e9} {
		s.add(v)
	}
	p := page{name: "t"}
	p.spread(&s)
	for _, line := range []string{`t_bucket{le="0.01"} 2`, `t_bucket{le="0.03"} 3`, `t_bucket{le="1"} 4`,
		`t_bucket{le="10000"} 6`, `t_bucket{le="+Inf"} 8`, `t_count 8`} {
		require.Contains(t, p.text.String(), line+"\n")
	}
}

func TestHealthIsFalseWhenItIsStuck(t *testing.T) {
	w := &quiet{}
	_, url := serve(t, w)
	status, _, body := get(t, url+"/healthz", "")
	require.Equal(t, 200, status)
	require.Equal(t, "ok\n", body)
	w.stuck = true
	status, _, body = get(t, url+"/healthz", "")
	require.Equal(t, 503, status)
	require.Equal(t, "the watcher's main loop has not responded for 5s\n", body)
	w.stuck, w.live.Trouble = false, "the ledger cannot be written: no space left on device"
	status, _, body = get(t, url+"/healthz", "")
	require.Equal(t, 503, status)
	require.Contains(t, body, "no space left")
}

// Connections that say nothing cannot use up the watcher's files: those that are one too
// many are closed, and the others are after a while.
func TestIdleConnectionsAreBounded(t *testing.T) {
	t.Parallel()
	const silence = time.Second
	address := free(t)
	s, err := serveWith(address, &quiet{live: watcher.Live{}}, silence)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	for range maxConnections + 20 {
		c, err := net.Dial("tcp", address)
		require.NoError(t, err)
		t.Cleanup(func() { c.Close() })
	}
	require.Eventually(t, func() bool {
		c, err := net.Dial("tcp", address)
		if err != nil {
			return false
		}
		defer c.Close()
		c.SetReadDeadline(time.Now().Add(silence / 2))
		_, err = c.Read(make([]byte, 1))
		return err == io.EOF
	}, 5*time.Second, 10*time.Millisecond, "one too many is closed at once")
	require.Eventually(t, func() bool {
		res, err := http.Get("http://" + address + "/healthz")
		if err != nil {
			return false
		}
		res.Body.Close()
		return true
	}, 30*time.Second, 100*time.Millisecond, "those that say nothing are closed after a while")
}
