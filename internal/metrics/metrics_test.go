package metrics

import (
	"io"
	"net"
	"net/http"
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
	free, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	address := free.Addr().String()
	free.Close()
	s, err := Serve(address, w)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	return s, "http://" + address
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
	p := textparse.NewOpenMetricsParser([]byte(body), labels.NewSymbolTable())
	got := map[string]float64{}
	for {
		entry, err := p.Next()
		if err == io.EOF {
			break
		}
		require.NoError(t, err)
		if entry != textparse.EntrySeries {
			continue
		}
		_, _, value := p.Series()
		var l labels.Labels
		p.Labels(&l)
		got[l.String()] = value
	}
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
	_, url := serve(t, &quiet{live: watcher.Live{}})
	for range maxConnections + 20 {
		c, err := net.Dial("tcp", url[len("http://"):])
		require.NoError(t, err)
		t.Cleanup(func() { c.Close() })
	}
	require.Eventually(t, func() bool {
		c, err := net.Dial("tcp", url[len("http://"):])
		if err != nil {
			return false
		}
		defer c.Close()
		c.SetReadDeadline(time.Now().Add(time.Second))
		_, err = c.Read(make([]byte, 1))
		return err == io.EOF
	}, 5*time.Second, 10*time.Millisecond, "one too many is closed at once")
	require.Eventually(t, func() bool {
		res, err := http.Get(url + "/healthz")
		if err != nil {
			return false
		}
		res.Body.Close()
		return true
	}, 30*time.Second, 100*time.Millisecond, "those that say nothing are closed after a while")
}
