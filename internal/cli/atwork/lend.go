package atwork

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"runtime"
	"strings"
	"sync"
	"time"

	"stilltide/internal/cli/console"
	"stilltide/internal/core/notation"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/ink"
	"stilltide/internal/lend"
	"stilltide/internal/service"
	"stilltide/internal/wire"
)

// helperName is how a helper may be named: its name is part of the names that the engine knows.
var helperName = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`[^A-Za-z0-9_-]+`) })

// lend runs a helper until it is asked to end.
func (a *app) lend(l lending) error {
	o, err := a.lendingOf(l)
	if err != nil {
		return err
	}
	if err := becomeUser(l.user, o.Folder); err != nil {
		return err
	}
	h, err := lend.New(o)
	if err != nil {
		return console.Usage("%v", err)
	}
	fmt.Fprintf(a.Err, "%s %s: lends %s of %s to the pool %s.\n", a.StyleErr.Bold("Still Tide"), console.Version,
		plan.Plural(o.Workers, "worker"), o.Name, o.Pool)
	fmt.Fprintf(a.Err, "It runs what %s signs, in %s. End with Ctrl-C.\n", strings.Join(o.Trusted, ", "),
		a.Shown(o.Folder))
	ctx, stop := a.AtWork(false)
	defer stop()
	manager := service.Connect()
	manager.Ready("lends "+o.Pool, func() bool { return true })
	context.AfterFunc(ctx, func() { manager.Ending("stopping; running commands are allowed to finish", o.StopAfter) })
	err = h.Run(ctx)
	manager.Stopping()
	a.Note("ended")
	return err
}

func (a *app) lendingOf(l lending) (o lend.Lending, err error) {
	switch {
	case l.pool == "":
		return o, console.Usage("name the pool that this machine works for: --pool NAME")
	case !wire.GoodName(l.pool):
		return o, console.Usage("%q cannot name a pool; use letters, digits, - and _", l.pool)
	case len(l.servers) == 0:
		return o, console.Usage("name the engine's address: --server nats://HOST:PORT")
	case l.keyFile == "":
		return o, console.Usage("name this helper's key: --key-file FILE; stilltide fleet make-key FILE makes one")
	case len(l.trust) == 0:
		return o, console.Usage("a helper runs commands for others, so it must be told for whom: --trust KEY, the " +
			"public key that stilltide fleet make-key has printed for the watcher")
	}
	if l.name == "" {
		l.name, _ = os.Hostname()
	}
	if l.name = helperName().ReplaceAllString(l.name, "-"); !wire.GoodName(l.name) {
		return o,
			console.Usage("%q cannot name this machine: give it another name, of 64 characters at most, with --name",
				l.name)
	}
	if l.folder == "" {
		l.folder = filepath.Join(stateHome(), "stilltide-lend")
	}
	if l.folder, err = filepath.Abs(l.folder); err != nil {
		return o, err
	}
	if l.workers <= 0 {
		l.workers = runtime.NumCPU()
	}
	maxSize, err := notation.ParseSize(l.maxSize)
	if err != nil {
		return o, console.Usage("--max-size: %v", err)
	}
	maxKept, err := notation.ParseSize(l.maxKept)
	if err != nil {
		return o, console.Usage("--max-kept: %v", err)
	}
	maxTime, err := rule.ParseDuration(l.maxTime)
	if err != nil {
		return o, console.Usage("--max-time: %v", err)
	}
	stopAfter, err := rule.ParseDuration(l.stopAfter)
	if err != nil {
		return o, console.Usage("--stop-after: %v", err)
	}
	return lend.Lending{Access: wire.Access{Servers: l.servers, KeyFile: l.keyFile, CA: l.ca}, Pool: l.pool,
		Name: l.name, Workers: l.workers, Trusted: l.trust, Folder: l.folder, Version: console.Version,
		MaxSize: int64(maxSize),
		MaxTime: maxTime, MaxKept: int64(maxKept), StopAfter: stopAfter, Line: a.lentLine,
		Said: func(text string) { a.Note("%s", text) }}, nil
}

// stateHome is the XDG state folder.
func stateHome() string {
	if dir := os.Getenv("XDG_STATE_HOME"); filepath.IsAbs(dir) {
		return dir
	}
	home, err := os.UserHomeDir()
	if err != nil {
		return os.TempDir()
	}
	return filepath.Join(home, ".local", "state")
}

// lentLine says what became of a command.
func (a *app) lentLine(l lend.Line) {
	state, paint := "done", a.Style.Good
	switch {
	case l.Text != "":
		state, paint = "not done", a.Style.Warn
	case l.Exit != 0:
		state, paint = fmt.Sprintf("exit %d", l.Exit), a.Style.Bad
	}
	line := fmt.Sprintf("%s  %s  %s  %s", a.Style.Dim(time.Now().Format("15:04:05")),
		ink.Pad(fmt.Sprintf("job %d of %s", l.Job, plan.Display(l.Rule)), 28), paint(ink.Pad(state, 9)),
		plan.Span(l.Ran))
	if l.Text != "" {
		line += "  " + l.Text
	}
	a.Board.Print(a.Out, line+"\n")
}
