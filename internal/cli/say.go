package cli

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/term"

	"stilltide/internal/core/flow"
	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/engine"
	"stilltide/internal/ink"
	"stilltide/internal/jsonlines"
)

// note prints a sentence of the watcher itself, warn one that wants attention,
// alarm one that tells of something wrong.
func (a *app) note(format string, args ...any) { a.say(slog.LevelInfo, fmt.Sprintf(format, args...)) }
func (a *app) warn(format string, args ...any) { a.say(slog.LevelWarn, fmt.Sprintf(format, args...)) }
func (a *app) alarm(format string, args ...any) {
	a.say(slog.LevelError, fmt.Sprintf(format, args...))
}

func (a *app) say(level slog.Level, text string) {
	if a.logFormat == logJSON {
		a.logTo(a.err).Log(context.Background(), level, text)
		return
	}
	stamp := a.stamp(a.styleErr)
	text = ink.Block(text, a.width(a.err), map[bool]int{true: 0, false: stampWidth}[stamp == ""])
	switch level {
	case slog.LevelWarn:
		text = a.styleErr.Warn(text)
	case slog.LevelError:
		text = a.styleErr.Bad(text)
	}
	a.board.print(a.err, stamp+text+"\n")
}

// The ways in which the watcher says what it does.
const (
	logText = "text"
	logJSON = "json"
)

// logTo writes records for machines, one JSON object a line (log/slog).
func (a *app) logTo(w io.Writer) *slog.Logger { return slog.New(slog.NewJSONHandler(w, nil)) }

// logOutcome writes the record of one outcome.
func (a *app) logOutcome(w io.Writer, o flow.Outcome) {
	j, level := jsonlines.JobOf(*o.Job), slog.LevelInfo
	switch o.Job.State {
	case job.Failed:
		level = slog.LevelError
	case job.Retrying, job.Vanished:
		level = slog.LevelWarn
	}
	attrs := []slog.Attr{slog.Int64("id", j.ID), slog.String("rule", j.Rule), slog.String("file", j.File),
		slog.String("state", string(j.State)),
		slog.Int("attempts", j.Attempts), slog.Float64("ran_s", j.RanS)}
	if j.FileNow != nil {
		attrs = append(attrs, slog.String("file_now", *j.FileNow))
	}
	if j.Reason != "" {
		attrs = append(attrs, slog.String("reason", j.Reason))
	}
	if !o.Next.IsZero() {
		attrs = append(attrs, slog.Time("next", o.Next))
	}
	a.logTo(w).LogAttrs(context.Background(), level, "job "+string(j.State), attrs...)
}

// board keeps one line at the bottom of a terminal, below what scrolls by.
// The zero value prints without one.
type board struct {
	mu     sync.Mutex
	term   io.Writer // nil if there is no terminal
	status string    // what stands there now
}

// print writes text to w, above the line at the bottom.
func (b *board) print(w io.Writer, text string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.status == "" {
		io.WriteString(w, text)
		return
	}
	io.WriteString(b.term, "\r\x1b[K")
	io.WriteString(w, text)
	io.WriteString(b.term, b.status)
}

// show replaces the line at the bottom; an empty one removes it.
func (b *board) show(status string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.term == nil || status == b.status {
		return
	}
	io.WriteString(b.term, "\r\x1b[K"+status)
	b.status = status
}

// terminal returns the terminal that w is, nil if it is none.
func terminal(w io.Writer) io.Writer {
	if f, ok := w.(*os.File); ok && term.IsTerminal(int(f.Fd())) && os.Getenv("TERM") != "dumb" {
		return f
	}
	return nil
}

// progressEvery is how often the progress is drawn.
const progressEvery = 250 * time.Millisecond

// fewToDo is how much there must be to do for a watcher to show its progress.
const fewToDo = 20

// showProgress draws how far the work is: always for a sweep, for a watcher
// only while there is much to do. The returned function ends it.
func (a *app) showProgress(e *engine.Engine, l *lines, always bool) (stop func()) {
	a.board.term = terminal(a.err)
	if a.board.term == nil || a.json || a.logFormat == logJSON {
		a.board.term = nil
		return func() {}
	}
	end := make(chan struct{})
	var done sync.WaitGroup
	done.Go(func() {
		r := rate{}
		tick := time.NewTicker(progressEvery)
		defer tick.Stop()
		for {
			select {
			case <-end:
				a.board.show("")
				return
			case <-tick.C:
			}
			p, err := e.Progress()
			if err != nil {
				continue // it is ending
			}
			text := ""
			if always || p.ToDo > fewToDo {
				text = l.progress(p, r.add(time.Now(), l.done()))
			}
			a.board.show(text)
		}
	})
	return func() {
		close(end)
		done.Wait()
	}
}

// rate reports how many jobs a second ended over the last ten seconds.
type rate struct {
	at   []time.Time
	done []int
}

func (r *rate) add(now time.Time, done int) float64 {
	r.at, r.done = append(r.at, now), append(r.done, done)
	for len(r.at) > 2 && now.Sub(r.at[0]) > 10*time.Second {
		r.at, r.done = r.at[1:], r.done[1:]
	}
	span := now.Sub(r.at[0]).Seconds()
	if span < 0.5 {
		return 0
	}
	return float64(done-r.done[0]) / span
}

// progressWidth bounds the line at the bottom: what is wider is not read.
const progressWidth = 200

// progress is the line at the bottom: done, to do, rate, time left, current files.
func (l *lines) progress(p engine.Progress, perSecond float64) string {
	toDo := strconv.Itoa(p.ToDo)
	if p.More {
		toDo += " and more"
	}
	text := fmt.Sprintf("%d done · %s to do", l.done(), toDo)
	if perSecond > 0 {
		speed := fmt.Sprintf("%.0f/s", perSecond)
		if perSecond < 10 {
			speed = fmt.Sprintf("%.1f/s", perSecond)
		}
		text += " · " + speed
		if left := time.Duration(float64(p.ToDo) / perSecond * float64(time.Second)); p.ToDo > 0 && !p.More &&
			left >= time.Second {
			text += " · about " + plan.Span(left.Round(time.Second)) + " left"
		}
	}
	if len(p.Running) > 0 {
		text += " · " + strings.Join(names(p.Running), ", ")
	}
	return l.a.styleErr.Dim(ink.Cut(text, min(l.a.width(l.a.err), progressWidth)-1))
}

func names(paths []string) []string {
	list := make([]string, len(paths))
	for i, p := range paths {
		list[i] = display(filepath.Base(p))
	}
	return list
}
