package engine

import (
	"time"

	"stilltide/internal/core/rule"
	"stilltide/internal/look"
)

// Reload returns the running engine changed rules, which must be free of
// errors. Running attempts end under the old ones. Jobs that are not running
// are tested again; one that no longer fits is cancelled, and its file is
// offered anew.
func (e *Engine) Reload(f *rule.File) error {
	set := look.NewSet(f)
	e.knowFolders(set)
	err := e.do(func() {
		e.flow.Reload(set, time.Now())
		e.o.Rules = f
		e.desk.Kept.Bound(f.KeepReplaced())
		e.useTimes(f)
		e.poolsRead()
		e.tell.Accepted(time.Now())
		e.events.TellWriting(set.WritingFolders())
		e.events.Want(e.wanted())
		e.events.Sweep()
	})
	if err == nil {
		e.hub.Use(f.Channels)
	}
	return err
}

// useTimes goes by the times of a rules file.
func (e *Engine) useTimes(f *rule.File) {
	e.keepHistory.Store(int64(f.KeepHistory()))
	e.stopAfter.Store(int64(f.StopAfter()))
}

// StopAfter is how long running commands may go on after the watcher was asked to end, by the rules of now.
func (e *Engine) StopAfter() time.Duration { return time.Duration(e.stopAfter.Load()) }
