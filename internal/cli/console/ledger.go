package console

import (
	"errors"
	"fmt"
	"time"

	"stilltide/internal/advice"
	"stilltide/internal/byhand"
	"stilltide/internal/control"
	"stilltide/internal/core/diag"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/ink"
	"stilltide/internal/ledger"
	"stilltide/internal/look"
	"stilltide/internal/standing"
	"stilltide/internal/watcher"
)

// ViaWatcher asks the running watcher, or does it through the ledger.
func ViaWatcher(f *rule.File, ids []int64, ask func(*control.Client, []int64) ([]byhand.Sent, error),
	offline func(*ledger.Ledger, int64) byhand.Sent) ([]byhand.Sent, error) {
	if len(ids) == 0 {
		return nil, nil
	}
	var sent []byhand.Sent
	err := WhileTaken(func() (err error) {
		if sent, err = ask(control.Dial(f.StateFolder()), ids); !errors.Is(err, control.ErrNobody) {
			return err
		}
		l, err := byhand.Open(f, func(error) {})
		if err != nil {
			return err
		}
		for _, id := range ids {
			sent = append(sent, offline(l, id))
		}
		return l.Close()
	})
	return sent, err
}

// Forgotten are the doubts about rules whose memory, or whose jobs, would be lost. A ledger that cannot be read has
// none: whoever needs it says what is wrong with it.
func (a *App) Forgotten(f *rule.File) diag.List {
	l, err := readNamed(f)
	if l == nil || err != nil {
		return nil
	}
	defer l.Close()
	d, _ := advice.Forgotten(f, l)
	if others, _ := byhand.Others(f, l); others != nil {
		d = append(d, advice.SharedState(f, a.OthersWait(f, others), a.OwnState(f)))
	}
	return d
}

// WarnOfForgotten says them.
func (a *App) WarnOfForgotten(f *rule.File) {
	for _, d := range a.Forgotten(f) {
		a.Warn("%s:%d: %s; %s", a.Shown(d.File), d.Line, ink.Clean(d.Message), ink.Clean(d.Hint))
	}
}

// Retry retries jobs through the ledger. From rules with errors it is not known what they take.
func Retry(f *rule.File, diags diag.List) func(*ledger.Ledger, int64) byhand.Sent {
	var set *plan.Set
	if !diags.Failed() {
		set = look.NewSet(f)
	}
	return func(l *ledger.Ledger, id int64) byhand.Sent { return byhand.Retry(l, set, id) }
}

// takenFor is how long a ledger may be held by somebody who does not answer.
const takenFor = 5 * time.Second

// WhileTaken does something again and again, for a while, as long as it fails because
// somebody holds the ledger: a command that is at work in it, or a watcher that starts or
// ends, and cannot be asked yet or any more.
func WhileTaken(do func() error) error {
	for end := time.Now().Add(takenFor); ; time.Sleep(20 * time.Millisecond) {
		if err := do(); !errors.Is(err, ledger.ErrBusy) || time.Now().After(end) {
			return err
		}
	}
}

// LedgerFor opens the ledger of the rules file for reading. Broken rules do
// not matter here, as long as they say where the ledger is.
func (a *App) LedgerFor() (*rule.File, *ledger.Ledger, error) {
	f, _, err := a.ReadRules()
	if err != nil {
		return nil, nil, err
	}
	l, err := a.ReadLedger(f)
	return f, l, err
}

// Running asks the watcher of the rules what only it knows; nil if none answers, or if that one works by another rules
// file.
func (a *App) Running(f *rule.File) *watcher.Live {
	live, _ := a.Watcher(f)
	return live
}

// Watcher is Running, with an error if the watcher in the state folder of the rules works by another rules file.
func (a *App) Watcher(f *rule.File) (*watcher.Live, error) {
	live, err := control.Dial(f.StateFolder()).Live()
	switch {
	case err != nil:
		return nil, nil
	case byhand.SameRules(live.Rules, f.Path):
		return &live, nil
	}
	return nil, &ExitError{Status: ExitBusy, Text: fmt.Sprintf("the watcher here (process %d) works by %s, not by %s: "+
		"%s", live.PID, a.Shown(live.Rules), a.Shown(f.Path), a.OwnState(f))}
}

// OthersWait says of jobs of another rules file that a start by this one would cancel them.
func (a *App) OthersWait(f *rule.File, o *byhand.OthersWait) string {
	return fmt.Sprintf("%s would cancel %s of %s, as both have the state folder %s", a.Shown(f.Path),
		plan.Plural(o.Jobs, "job"), a.Shown(o.Rules), a.Shown(f.StateFolder()))
}

// OwnState is what to do where two rules files have one state folder.
func (a *App) OwnState(f *rule.File) string {
	return fmt.Sprintf("give %s a state_folder of its own", a.Shown(f.Path))
}

// Standing is how it all stands now. l may be nil.
func (a *App) Standing(f *rule.File, diags diag.List, l *ledger.Ledger,
	w *watcher.Live) (standing.Standing, error) {
	asked := AskedOf(f, l, w, time.Now())
	if diags.Failed() {
		asked.Errors, _ = diags.Count()
	}
	return standing.Collect(asked)
}

// AskedOf is what a standing of rules without errors is made from.
func AskedOf(f *rule.File, l *ledger.Ledger, w *watcher.Live, now time.Time) standing.Asked {
	asked := standing.Asked{Rules: f, Ledger: l, Live: w, Now: now}
	if w == nil {
		asked.Lacking = advice.Lacking(f)
	}
	return asked
}

// Ask asks the watcher, and opens the ledger for reading; nil is none. A file that
// becomes a job meanwhile is in both, and never in neither.
func (a *App) Ask(f *rule.File) (*watcher.Live, *ledger.Ledger, error) {
	w, other := a.Watcher(f)
	if other != nil {
		a.Warn("%s", ink.Clean(other.Error()))
	}
	l, err := a.ReadLedger(f)
	return w, l, err
}

// ReadLedger opens the ledger for reading, nil if there is none yet.
func (a *App) ReadLedger(f *rule.File) (*ledger.Ledger, error) {
	_ = control.Dial(f.StateFolder()).CatchUp() // without a watcher there is nothing to wait for
	return readNamed(f)
}

// readNamed opens the ledger for reading, under the names that the rules have now.
func readNamed(f *rule.File) (*ledger.Ledger, error) {
	l, err := readAt(f)
	switch {
	case err == ledger.ErrNone:
		return nil, nil
	case err != nil:
		return nil, err
	}
	if err := l.UseNames(f.Renamed()); err != nil {
		return nil, errors.Join(err, l.Close())
	}
	return l, nil
}

// readAt opens the ledger for reading, with the paths of where it is now. While another program holds
// it, or where it may not be written, it is read as it is.
func readAt(f *rule.File) (*ledger.Ledger, error) {
	l, err := ledger.Read(f.StateFolder())
	if err != nil {
		return nil, err
	}
	if _, moved, err := l.WasIn(f.Base); err != nil || !moved {
		return l, err
	}
	if err := l.Close(); err != nil {
		return nil, err
	}
	if now, err := ledger.Open(f.StateFolder(), func(error) {}); err == nil {
		if err := errors.Join(now.UseFolder(f.Base), now.Close()); err != nil {
			return nil, err
		}
	}
	return ledger.Read(f.StateFolder())
}
