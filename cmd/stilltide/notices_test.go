package main

import (
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"stilltide/internal/core/notice"
	"stilltide/internal/standin"
)

// watcher is the real program at work in a folder.
type watcher struct {
	t   *testing.T
	dir string
	cmd *exec.Cmd
	log string
}

func startWatcher(t *testing.T, dir string, env ...string) *watcher {
	t.Helper()
	program, err := built()
	require.NoError(t, err)
	w := &watcher{t: t, dir: dir, cmd: exec.Command(program, "watch")}
	w.cmd.Env = append(os.Environ(), env...)
	return w.start(nil)
}

// start starts a command of the program. What it says goes to its log, and so does what it prints, if to is nil.
func (w *watcher) start(to *os.File) *watcher {
	t := w.t
	t.Helper()
	w.log = filepath.Join(t.TempDir(), "log")
	log, err := os.Create(w.log)
	require.NoError(t, err)
	defer log.Close()
	w.cmd.Dir, w.cmd.Stdout, w.cmd.Stderr = w.dir, log, log
	if to != nil {
		w.cmd.Stdout = to
	}
	require.NoError(t, w.cmd.Start())
	t.Cleanup(func() { _ = w.cmd.Process.Kill() })
	return w
}

func (w *watcher) stop() string {
	w.t.Helper()
	require.NoError(w.t, w.cmd.Process.Signal(syscall.SIGTERM))
	require.NoError(w.t, w.cmd.Wait(), w.said())
	return w.said()
}

func (w *watcher) said() string {
	text, _ := os.ReadFile(w.log)
	return string(text)
}

// messages are the notices that a web receiver got.
func messages(t *testing.T, hook *standin.Webhook) []notice.Message {
	var list []notice.Message
	for _, r := range hook.All() {
		var e struct{ Data notice.Message }
		require.NoError(t, json.Unmarshal(r.Body, &e))
		list = append(list, e.Data)
	}
	return list
}

func put(t *testing.T, dir, name, content string) {
	t.Helper()
	require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o777))
	require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(content), 0o666))
}

func TestABurstMakesOneNoticeAChannel(t *testing.T) {
	t.Parallel()
	hook, err := standin.NewWebhook()
	require.NoError(t, err)
	defer hook.Close()
	post, err := standin.NewMail()
	require.NoError(t, err)
	defer post.Close()
	dir := t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(dir, "in"), 0o777))
	put(t, dir, "stilltide.yaml", fmt.Sprintf(`version: 1
channels:
  office: {webhook: %q, digest: 6s}
  duty: {mail: {server: %q, from: tide@kelder.example, to: duty@kelder.example}, digest: 6s}
  batch: {webhook: %q, digest: 0s}
rules:
  - name: slips
    watch: in
    debounce: 0s
    retry: 0
    run: grep -q good
    processed: done
    failed: failed
    notify: {on: [processed, failed], to: [office, duty]}
  - name: other
    watch: in
    processed: done
`, hook.Address(), post.Address(), hook.Address()+"/batch"))
	w := startWatcher(t, dir)
	require.Eventually(t, func() bool { return strings.Contains(w.said(), "Files that are there") }, patience,
		5*time.Millisecond)
	begun := time.Now()
	for i := range 300 {
		content := "good\n"
		if i%100 == 7 {
			content = "bad\n"
		}
		put(t, dir, fmt.Sprintf("in/slip-%d.txt", i), content)
	}
	counts := func() map[notice.Kind]int {
		sum := map[notice.Kind]int{}
		for _, m := range messages(t, hook) {
			for k, n := range m.Counts {
				sum[k] += n
			}
		}
		return sum
	}
	all := map[notice.Kind]int{notice.Processed: 297, notice.Failed: 3}
	require.Eventually(t, func() bool { return maps.Equal(all, counts()) && len(post.All()) == len(hook.All()) },
		patience, 20*time.Millisecond)
	w.stop()
	require.Equal(t, all, counts())
	digests := int(time.Since(begun)/(6*time.Second)) + 1
	require.LessOrEqual(t, len(hook.All()), digests, "a slow machine may need longer than the gathering time")
	require.Len(t, post.All(), len(hook.All()))
	require.Contains(t, string(post.All()[0].Text), "failed")
}

// A notice says where the file is, what was printed last, how to go on, and of which machine it
// is; or the user's own words, of any kind.
func TestANoticeSaysWhatToDo(t *testing.T) {
	t.Parallel()
	hook, err := standin.NewWebhook()
	require.NoError(t, err)
	defer hook.Close()
	post, err := standin.NewMail()
	require.NoError(t, err)
	defer post.Close()
	dir := t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(dir, "in"), 0o777))
	put(t, dir, "stilltide.yaml", fmt.Sprintf(`version: 1
channels:
  office: {webhook: %q, digest: 0s}
  duty: {mail: {server: %q, from: tide@kelder.example, to: duty@kelder.example}, digest: 0s}
defaults: {debounce: 0s, retry: 0}
notify: {on: unmatched, to: office, text: "nobody wants {name}"}
rules:
  - name: slips
    watch: in
    match: "*.txt"
    script: |
      echo reading
      echo "line 7 is bad"
      exit 65
    failed: failed
    notify: {on: failed, to: [office, duty]}
  - name: photos
    watch: in
    match: "*.jpg"
    processed: "photos/{stem}"
    notify: {on: [caught_up, processed], to: office, text: "{kind}: {count} in {folder}"}
`, hook.Address(), post.Address()))
	put(t, dir, "in/slip.txt", "x")
	put(t, dir, "in/a.jpg", "1")
	put(t, dir, "in/b.jpg", "2")
	put(t, dir, "in/odd.bin", "3")
	run(t, dir, "sweep")
	var failed *notice.Message
	said := map[string]bool{}
	for _, m := range messages(t, hook) {
		if m.Counts[notice.Failed] > 0 {
			failed = &m
		}
		for line := range strings.SplitSeq(m.Text, "\n") {
			said[line] = true
		}
	}
	host, _ := os.Hostname()
	require.NotNil(t, failed)
	require.Equal(t, host, failed.Machine)
	require.Equal(t, filepath.Join(dir, "stilltide.yaml"), failed.Rules)
	e := failed.Events[0]
	require.Equal(t, filepath.Join(dir, "failed/slip.txt"), e.FileNow)
	require.Equal(t, []string{"reading", "line 7 is bad"}, e.Printed)
	require.Equal(t, fmt.Sprintf("stilltide --config %s/stilltide.yaml retry %d", dir, e.Job), e.Next)
	require.True(t, said["caught_up: 2 in "+dir+"/photos"], said)
	require.True(t, said["processed: 1 in "+dir+"/photos/a"], said)
	require.True(t, said["nobody wants odd.bin"], said)
	letter := string(post.All()[0].Text)
	for _, want := range []string{"Subject: slips: slip.txt failed (" + host + ")", "it is in " + dir + "/failed now",
		"printed last: reading", "line 7 is bad", "retry ", "Rules: " + dir + "/stilltide.yaml on " + host} {
		require.Contains(t, strings.ReplaceAll(letter, "=\r\n", ""), want)
	}
	words := strings.Fields(e.Next)
	require.Contains(t, run(t, t.TempDir(), words[1:]...), "queued", "the command is one that can be typed anywhere")
}

func TestDrainedSaysOneSentence(t *testing.T) {
	t.Parallel()
	hook, err := standin.NewWebhook()
	require.NoError(t, err)
	defer hook.Close()
	dir := t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(dir, "in"), 0o777))
	put(t, dir, "stilltide.yaml", fmt.Sprintf(`version: 1
channels:
  office: {webhook: %q, digest: 0s}
rules:
  - name: slips
    watch: in
    debounce: 0s
    processed: done
    notify: {on: caught_up, to: office}
`, hook.Address()))
	w := startWatcher(t, dir)
	require.Eventually(t, func() bool { return strings.Contains(w.said(), "Files that are there") }, patience,
		5*time.Millisecond)
	for i := range 200 {
		put(t, dir, fmt.Sprintf("in/slip-%d.txt", i), "good\n")
	}
	require.Eventually(t, func() bool { return len(hook.All()) > 0 }, patience, 20*time.Millisecond)
	w.stop()
	m := messages(t, hook)
	require.Len(t, m, 1)
	require.Equal(t, "slips: 200 files done", m[0].Title)
	require.Regexp(t, `^slips: 200 processed, in \d`, m[0].Text)
}

func TestWhatBelongsToNoRuleIsTold(t *testing.T) {
	t.Parallel()
	hook, err := standin.NewWebhook()
	require.NoError(t, err)
	defer hook.Close()
	dir := t.TempDir()
	put(t, dir, "in/odd.bin", "x")
	put(t, dir, "in/odd.bin.part", "not yet")
	put(t, dir, "in/done/old.bin", "already placed")
	rules := fmt.Sprintf(`version: 1
channels:
  office: {webhook: %q, digest: 0s}
notify: {on: [unmatched, blocked], to: office}
heartbeat: {to: office, every: 1h}
rules:
  - name: slips
    watch: in
    depth: all
    match: "*.txt"
    debounce: 0s
    processed: in/done
    ready: {max_wait: 200ms, min_size: 5}
    notify: {on: overdue, to: office}
`, hook.Address())
	put(t, dir, "stilltide.yaml", rules)
	w := startWatcher(t, dir)
	put(t, dir, "in/small.txt", "x")
	titles := func() string {
		var list []string
		for _, m := range messages(t, hook) {
			list = append(list, m.Title)
		}
		return strings.Join(list, "\n")
	}
	require.Eventually(t, func() bool { return strings.Contains(titles(), "Still Tide is alive") }, patience,
		20*time.Millisecond)
	require.Eventually(t, func() bool { return strings.Contains(titles(), "slips: small.txt is overdue") },
		patience, 20*time.Millisecond)
	require.Eventually(t, func() bool { return strings.Contains(titles(), "no rule took odd.bin") }, patience,
		20*time.Millisecond)
	put(t, dir, "stilltide.yaml", rules+"    mtach: x\n")
	require.Eventually(t, func() bool { return strings.Contains(titles(), "Still Tide needs a person") },
		patience, 20*time.Millisecond)
	put(t, dir, "stilltide.yaml", rules)
	require.Eventually(t, func() bool { return strings.Contains(titles(), "Still Tide has recovered") },
		patience, 20*time.Millisecond)
	w.stop()
	require.NotContains(t, titles(), "part")
	require.NotContains(t, titles(), "old.bin")

	program, err := built()
	require.NoError(t, err)
	sweep := exec.Command(program, "sweep")
	sweep.Dir = dir
	out, err := sweep.CombinedOutput()
	require.NoError(t, err, string(out))
	require.Equal(t, 1, strings.Count(titles(), "no rule took odd.bin"), "what was told once is not told again")
	require.Equal(t, 2, strings.Count(titles(), "slips: small.txt is overdue"), "by the sweep, too")
}

// A rule's trouble is told once, and again when a person ends it.
func TestBlockedAndRecoveredAreTold(t *testing.T) {
	t.Parallel()
	hook, err := standin.NewWebhook()
	require.NoError(t, err)
	defer hook.Close()
	dir := t.TempDir()
	for i := range 30 {
		put(t, dir, fmt.Sprintf("in/slip-%d.txt", i), "x")
	}
	put(t, dir, "stilltide.yaml", fmt.Sprintf(`version: 1
channels:
  office: {webhook: %q, digest: 0s}
notify: {on: blocked, to: office}
rules:
  - name: slips
    watch: in
    debounce: 500ms
    events: [added, changed, removed]
    run: "true"
`, hook.Address()))
	w := startWatcher(t, dir)
	require.Eventually(t, func() bool { return strings.Count(w.said(), "processed") == 30 }, patience,
		5*time.Millisecond)
	for i := range 30 {
		require.NoError(t, os.Remove(filepath.Join(dir, fmt.Sprintf("in/slip-%d.txt", i))))
	}
	title := func(n int) string {
		if all := messages(t, hook); len(all) > n {
			return all[n].Title
		}
		return ""
	}
	require.Eventually(t, func() bool { return title(0) == "slips is blocked" }, patience,
		20*time.Millisecond)
	program, err := built()
	require.NoError(t, err)
	resume := exec.Command(program, "resume", "slips")
	resume.Dir = dir
	out, err := resume.CombinedOutput()
	require.NoError(t, err, string(out))
	require.Eventually(t, func() bool { return title(1) == "slips has recovered" }, patience,
		20*time.Millisecond)
	w.stop()
	require.Len(t, hook.All(), 2)
}

func TestListenAnswersTheMachinesThatWatch(t *testing.T) {
	t.Parallel()
	free, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	address := free.Addr().String()
	require.NoError(t, free.Close())
	dir := t.TempDir()
	put(t, dir, "in/slip-1.txt", "x")
	put(t, dir, "stilltide.yaml", "version: 1\nlisten: "+address+
		"\nrules:\n  - name: slips\n    watch: in\n    debounce: 0s\n    processed: done\n")
	w := startWatcher(t, dir)
	get := func(page string) string {
		res, err := http.Get("http://" + address + page)
		if err != nil {
			return err.Error()
		}
		defer res.Body.Close()
		body, _ := io.ReadAll(res.Body)
		return string(body)
	}
	require.Eventually(t, func() bool {
		return strings.Contains(get("/metrics"), `stilltide_jobs_ended_total{rule="slips",state="processed"} 1`)
	}, patience, 20*time.Millisecond)
	require.Equal(t, "ok\n", get("/healthz"))
	w.stop()

	taken, err := net.Listen("tcp", address)
	require.NoError(t, err)
	defer taken.Close()
	program, err := built()
	require.NoError(t, err)
	again := exec.Command(program, "watch")
	again.Dir = dir
	out, err := again.CombinedOutput()
	require.Error(t, err)
	require.Contains(t, string(out), "listen: "+address+" cannot be used: ")
}
