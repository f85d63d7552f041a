package atwork

import (
	"fmt"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"stilltide/internal/cli/console"
	"stilltide/internal/core/plan"
	"stilltide/internal/engine"
	"stilltide/internal/ink"
	"stilltide/internal/watcher"
)

// progressEvery is how often the progress is drawn.
const progressEvery = 250 * time.Millisecond

// fewToDo is how much there must be to do for a watcher to show its progress.
const fewToDo = 20

// showProgress draws how far the work is: always for a sweep, for a watcher
// only while there is much to do. The returned function ends it.
func (a *app) showProgress(e *engine.Engine, l *lines, always bool) (stop func()) {
	a.Board.Term = console.Terminal(a.Err)
	if a.Board.Term == nil || a.JSON || a.LogFormat == console.LogJSON {
		a.Board.Term = nil
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
				a.Board.Show("")
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
			a.Board.Show(text)
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
func (l *lines) progress(p watcher.Progress, perSecond float64) string {
	toDo := plan.Number(p.ToDo)
	if p.More {
		toDo += " and more"
	}
	text := fmt.Sprintf("%s done · %s to do", plan.Number(l.done()), toDo)
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
	return l.a.StyleErr.Dim(ink.Cut(text, min(l.a.Width(l.a.Err), progressWidth)-1))
}

func names(paths []string) []string {
	list := make([]string, len(paths))
	for i, p := range paths {
		list[i] = console.Display(filepath.Base(p))
	}
	return list
}
