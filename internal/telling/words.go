package telling

import (
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"stilltide/internal/core/fill"
	"stilltide/internal/core/job"
	"stilltide/internal/core/notice"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/core/turn"
)

// inOwnWords fills the words that the user has for notices of a rule, or of the whole file.
func inOwnWords(n *rule.Notify, ev notice.Event) notice.Event {
	if n == nil || n.Words == nil {
		return ev
	}
	count, folder := 1, filepath.Dir(ev.File)
	if ev.FileNow != "" {
		folder = filepath.Dir(ev.FileNow)
	}
	if ev.Kind == notice.CaughtUp {
		count, folder = ev.Jobs, ev.FileNow
	}
	words := map[string]string{"kind": string(ev.Kind), "rule": ev.Rule, "file": ev.File,
		"name":     filepath.Base(ev.File),
		"file_now": ev.FileNow, "folder": folder, "reason": ev.Text, "job": fmt.Sprint(ev.Job),
		"count": fmt.Sprint(count)}
	said, err := n.Words.Fill(func(word string) (fill.Value, error) { return fill.Text(words[word]), nil })
	if err == nil {
		ev.Said = said
	}
	return ev
}

// caughtUpEvent says in one sentence what a rule has done.
func caughtUpEvent(b turn.Batch, now time.Time) notice.Event {
	text := plan.Number(b.Count[job.Processed]) + " processed"
	for _, s := range slices.Sorted(maps.Keys(b.Count)) {
		if s != job.Processed && b.Count[s] > 0 {
			text += fmt.Sprintf(", %s %s", plan.Number(b.Count[s]), s)
		}
	}
	text = fmt.Sprintf("%s, in %s", text, plan.Span(b.Ended.Sub(b.Began)))
	if len(b.Failed) > 0 {
		var names []string
		for _, j := range b.Failed {
			names = append(names, plan.Display(filepath.Base(j.File)))
		}
		if more := b.Count[job.Failed] - len(names); more > 0 {
			names = append(names, fmt.Sprintf("and %s more", plan.Number(more)))
		}
		text += "; failed: " + strings.Join(names, ", ")
	}
	return notice.Event{Kind: notice.CaughtUp, At: now, Rule: b.Rule, Text: text, Jobs: b.Jobs(), FileNow: b.Folder}
}
