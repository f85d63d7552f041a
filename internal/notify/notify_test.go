package notify

import (
	"bufio"
	"context"
	"encoding/json"
	"io"
	"mime"
	"net/mail"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/cloudevents/sdk-go/v2/event"
	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"
	"github.com/stretchr/testify/require"

	"stilltide/internal/core/fill"
	"stilltide/internal/core/notice"
	"stilltide/internal/core/rule"
	"stilltide/internal/machine"
	"stilltide/internal/standin"
)

func text(s string) rule.Text { return rule.Text{S: s, Pos: rule.Pos{Line: 1}} }

func every(d time.Duration) rule.Duration {
	return rule.Duration{Duration: d, Pos: rule.Pos{Line: 1}}
}

// said keeps what a hub says of its channels.
type said struct {
	mu   sync.Mutex
	list []string
}

func (s *said) add(text string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.list = append(s.list, text)
}

func (s *said) all() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return strings.Join(s.list, "\n")
}

func openHub(t *testing.T, state string, channels rule.Channels) (*Hub, *said) {
	s := &said{}
	h, err := Open(Options{State: state, Rules: "/srv/kelder/stilltide.yaml", Report: s.add})
	require.NoError(t, err)
	h.Start(channels)
	return h, s
}

func failedEvent(name string) notice.Event {
	return notice.Event{Kind: notice.Failed, At: time.Now(), Rule: "gauge-readings", File: "/in/" + name, Job: 7,
		Text: "line 3 says -99.99"}
}

const secret = "whsec_C2FVsBQIhrscChlQIMV+b5sSYspob7oD"

func TestAWebHookIsACloudEventAndIsSigned(t *testing.T) {
	hook, err := standin.NewWebhook()
	require.NoError(t, err)
	defer hook.Close()
	t.Setenv("OFFICE_SECRET", secret)
	h, s := openHub(t, t.TempDir(), rule.Channels{"office": {Webhook: text(hook.Address()),
		Secret: text("OFFICE_SECRET"), Digest: every(time.Minute)}})
	h.Tell([]string{"office"}, failedEvent("a.csv"))
	h.Tell([]string{"office"}, failedEvent("b ü.csv"))
	h.Close() // sends what was gathered, before its minute is over
	require.Empty(t, s.all())

	require.Len(t, hook.All(), 1)
	got := hook.All()[0]
	var e event.Event
	require.NoError(t, json.Unmarshal(got.Body, &e))
	require.NoError(t, e.Validate())
	require.Equal(t, "stilltide.notice", e.Type())
	require.Equal(t, "application/cloudevents+json; charset=utf-8", got.Header.Get("Content-Type"))
	var m notice.Message
	require.NoError(t, e.DataAs(&m))
	require.Equal(t, "gauge-readings: 2 failed", m.Title)
	require.Equal(t, "/in/b ü.csv", m.Events[1].File)

	wh, err := standardwebhooks.NewWebhook(secret)
	require.NoError(t, err)
	require.NoError(t, wh.Verify(got.Body, got.Header))
	require.Error(t, wh.Verify(append(got.Body, ' '), got.Header), "another body")
	require.Equal(t, e.ID(), got.Header.Get("Webhook-Id"))
}

func TestARefusedMessageIsTriedAgainWithTheSameName(t *testing.T) {
	hook, err := standin.NewWebhook()
	require.NoError(t, err)
	defer hook.Close()
	hook.Refuse(503)
	h, s := openHub(t, t.TempDir(), rule.Channels{"office": {Webhook: text(hook.Address()), Digest: every(0)}})
	h.Tell([]string{"office"}, failedEvent("a.csv"))
	require.Eventually(t, func() bool { return len(hook.All()) == 1 }, 10*time.Second, 5*time.Millisecond)
	h.Close()
	require.Contains(t, s.all(), "the channel office cannot deliver: "+hook.Address()+
		" answered 503 Service Unavailable; it will be tried again, and jobs go on")
	require.Contains(t, s.all(), "the channel office delivers again")
}

func TestWhatCouldNotBeDeliveredWaitsForTheNextStart(t *testing.T) {
	state := t.TempDir()
	hook, err := standin.NewWebhook()
	require.NoError(t, err)
	address := hook.Address()
	hook.Close()
	h, s := openHub(t, state, rule.Channels{"office": {Webhook: text(address)}})
	h.Tell([]string{"office"}, failedEvent("a.csv"))
	began := time.Now()
	h.Close()
	require.Less(t, time.Since(began), atTheEnd+2*time.Second)
	require.Contains(t, s.all(), "could not be reached")
	files, _ := filepath.Glob(filepath.Join(state, "notices", "*.json"))
	require.Len(t, files, 1)

	hook, err = standin.NewWebhook()
	require.NoError(t, err)
	defer hook.Close()
	h, _ = openHub(t, state, rule.Channels{"office": {Webhook: text(hook.Address())}})
	require.Eventually(t, func() bool { return len(hook.All()) == 1 }, 5*time.Second, time.Millisecond)
	h.Close()
	files, _ = filepath.Glob(filepath.Join(state, "notices", "*"))
	require.Empty(t, files)
}

// A channel that never answers must cost the one who tells nothing, nor hold
// up another channel.
func TestAStuckChannelHoldsUpNoOther(t *testing.T) {
	good, err := standin.NewWebhook()
	require.NoError(t, err)
	defer good.Close()
	h, _ := openHub(t, t.TempDir(), rule.Channels{
		"stuck":  {Run: command1(t, "sleep 60"), Command: text("sleep 60"), Digest: every(0)},
		"office": {Webhook: text(good.Address()), Digest: every(0)},
	})
	for range 1000 {
		e := failedEvent("a.csv")
		e.Kind = notice.Processed // the same failure would be told once
		h.Tell([]string{"stuck", "office"}, e)
	}
	total := func() (n int) {
		for _, r := range good.All() {
			var e struct{ Data notice.Message }
			_ = json.Unmarshal(r.Body, &e)
			n += e.Data.Counts[notice.Processed]
		}
		return n
	}
	require.Eventually(t, func() bool { return total() == 1000 }, 10*time.Second, 5*time.Millisecond)
	h.stopLines(0)
	h.Close()
}

func command1(t *testing.T, line string) *fill.Command {
	c, err := fill.ParseCommand(line)
	require.NoError(t, err)
	return c
}

func TestALetter(t *testing.T) {
	server, err := standin.NewMail()
	require.NoError(t, err)
	defer server.Close()
	h, s := openHub(t, t.TempDir(), rule.Channels{"duty": {Digest: every(0), Mail: &rule.Mail{
		Server: text(server.Address()), From: text("tide@kelder.example"),
		To:      []rule.Text{text("duty@kelder.example"), text("chief@kelder.example")},
		Secrecy: rule.StartTLSIfOffered}}})
	h.Tell([]string{"duty"}, failedEvent("warder\nSubject: other.txt"))
	require.Eventually(t, func() bool { return len(server.All()) == 1 }, 5*time.Second, time.Millisecond)
	h.Close()
	require.Empty(t, s.all())

	got := server.All()[0]
	require.Equal(t, []string{"duty@kelder.example", "chief@kelder.example"}, got.To)
	m, err := mail.ReadMessage(strings.NewReader(string(got.Text)))
	require.NoError(t, err)
	subject, err := new(mime.WordDecoder).DecodeHeader(m.Header.Get("Subject"))
	require.NoError(t, err)
	require.Equal(t, `gauge-readings: $'warder\nSubject: other.txt' failed`, subject, "a name is data")
	require.Equal(t, "auto-generated", m.Header.Get("Auto-Submitted"))
	_, err = m.Header.Date()
	require.NoError(t, err)
	body, err := io.ReadAll(m.Body)
	require.NoError(t, err)
	require.Contains(t, string(body), "-99.99")
}

func TestADesktopNotification(t *testing.T) {
	address := privateBus(t)
	t.Setenv("DBUS_SESSION_BUS_ADDRESS", address)
	d, err := standin.NewDesktop(address)
	require.NoError(t, err)
	defer d.Close()
	h, s := openHub(t, t.TempDir(), rule.Channels{"desk": {Desktop: true, Digest: every(time.Minute)}})
	for range 20 {
		h.Tell([]string{"desk"}, failedEvent("a<b>.csv"))
	}
	h.Close() // sends what was gathered, before its minute is over
	require.Empty(t, s.all())
	got := d.All()
	require.Len(t, got, 1, "twenty files make one pop-up")
	require.Equal(t, "gauge-readings: 20 failed", got[0].Summary)
	require.Contains(t, got[0].Body, "a&lt;b&gt;.csv", "the service understands markup")
	require.Len(t, strings.Split(got[0].Body, "\n"), maxDesktopLines)
}

// privateBus starts a message bus of the test's own.
func privateBus(t *testing.T) string {
	daemon := machine.Program(t, "dbus-daemon")
	cmd := exec.Command(daemon, "--session", "--nofork", "--nopidfile", "--print-address=1", "--address=unix:dir="+
		t.TempDir())
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
	})
	address, err := bufio.NewReader(out).ReadString('\n')
	require.NoError(t, err)
	return strings.TrimSpace(address)
}

func TestACommand(t *testing.T) {
	dir := t.TempDir()
	script := filepath.Join(dir, "page")
	require.NoError(t, os.WriteFile(script,
		[]byte("#!/bin/sh\n{ printf '%s|%s|%s\\n' \"$1\" \"$2\" \"$3\"; cat; } > "+filepath.Join(dir, "got.new")+
			"\nmv "+dir+"/got.new "+dir+"/got\n"), 0o700))
	line := "./page {title} {count} {channel}"
	h, s := openHub(t, t.TempDir(), rule.Channels{"pager": {Command: text(line), Run: command1(t, line), Base: dir,
		Digest: every(20 * time.Millisecond)}})
	h.Tell([]string{"pager"}, failedEvent("$(touch hacked).csv"))
	require.Eventually(t, func() bool {
		_, err := os.Stat(filepath.Join(dir, "got"))
		return err == nil ||
			s.all() != ""
	}, 5*time.Second, time.Millisecond)
	h.Close()
	require.Empty(t, s.all())
	got, err := os.ReadFile(filepath.Join(dir, "got"))
	require.NoError(t, err)
	require.Equal(t, "gauge-readings: $(touch hacked).csv failed|1|pager\ngauge-readings: /in/$(touch "+
		"hacked).csv failed (job 7): line 3 says -99.99\n  the file is no longer there\n", string(got))
	require.NoFileExists(t, filepath.Join(dir, "hacked"))
}

func TestChangedChannelsTakeOver(t *testing.T) {
	hook, err := standin.NewWebhook()
	require.NoError(t, err)
	defer hook.Close()
	h, _ := openHub(t, t.TempDir(), rule.Channels{"office": {Webhook: text("http://127.0.0.1:1/none"),
		Digest: every(0)}})
	h.Tell([]string{"office"}, failedEvent("a.csv"))
	require.Eventually(t, func() bool { return len(h.box.waiting()["office"]) == 1 }, 5*time.Second,
		time.Millisecond)
	h.Use(rule.Channels{"office": {Webhook: text(hook.Address()), Digest: every(0)}})
	require.Eventually(t, func() bool { return len(hook.All()) == 1 }, 5*time.Second, time.Millisecond)
	h.Close()
}

func TestABadSecretIsSaid(t *testing.T) {
	t.Setenv("OFFICE_SECRET", "whsec_not base64!")
	c := rule.Channel{Webhook: text("http://127.0.0.1:1/"), Secret: text("OFFICE_SECRET")}
	err := Try(context.Background(), Options{}, "office", c, One("office", failedEvent("a")))
	require.EqualError(t, err, "the secret in OFFICE_SECRET is not base64, after whsec_ at its beginning")
}
