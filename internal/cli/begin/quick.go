package begin

import (
	"bufio"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"stilltide/internal/advice"
	"stilltide/internal/cli/console"
	"stilltide/internal/core/fill"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/ink"
	"stilltide/internal/quick"
	"stilltide/internal/runner"
	"stilltide/internal/writers"
)

// quickFlags are the flags of `quick`.
type quickFlags struct {
	each, atStart, stopOld, clear, nul, whileOpen bool
	debounce                                      string
}

func (a *app) quickCommand() *cobra.Command {
	var f quickFlags
	c := &cobra.Command{
		Use: "quick PATTERN … -- COMMAND …", Short: "Run a command when files change: a rule from the command line",
		Args: cobra.ArbitraryArgs,
		Long: `Runs a command each time one of the files changes: once for a batch of changes, with {files}
for what changed, or with --each once for each file, with {file}, {name}, {stem} and so on.

A PATTERN is a file, there or not yet, a folder with all below it, a pattern such as
'src/**/*.go', or an ending such as .go for all files below this folder. A single - reads
the files and folders from standard input, one a line, or NUL-separated with -0.

What changes while the command runs makes one more run afterwards; with --stop-old it is
stopped and begins again. Its output goes to the terminal. Ctrl-C ends both.`,
		Example: `  stilltide quick .go -- go test ./...
  stilltide quick --each 'charts/*.pgm' -- ./bin/halve {file}
  stilltide quick - -- make < inputs.txt`,
		RunE: func(c *cobra.Command, args []string) error { return a.quick(f, args, c.ArgsLenAtDash()) },
	}
	c.Flags().BoolVar(&f.each, "each", false, "a run for each file, not one for all that changed")
	c.Flags().BoolVar(&f.atStart, "at-start", false, "run once at the start, before anything changes")
	c.Flags().BoolVar(&f.stopOld, "stop-old", false, "a change stops the run that is under way")
	c.Flags().BoolVar(&f.whileOpen, "while-open", false, "a file counts as changed while a program writes to it, "+
		"such as a log")
	c.Flags().BoolVar(&f.clear, "clear-screen", false, "clear the terminal before each run")
	c.Flags().StringVar(&f.debounce, "debounce", "100ms", "quiet `TIME` after the last change before a run")
	c.Flags().BoolVarP(&f.nul, "null", "0", false, "with -: the list is NUL-separated")
	return c
}

func (a *app) quick(f quickFlags, args []string, dash int) error {
	if dash < 1 || dash == len(args) {
		return console.Usage("write the files, then -- and the command: stilltide quick 'src/*.go' -- go test ./...")
	}
	names, words := args[:dash], args[dash:]
	names, err := a.listed(names, f.nul)
	if err != nil {
		return err
	}
	debounce, err := rule.ParseDuration(f.debounce)
	if err != nil {
		return console.Usage("--debounce: %v; write a number with its unit, such as 200ms", err)
	}
	folder, err := console.Here()
	if err != nil {
		return err
	}
	targets, err := quick.Find(names, folder)
	if err != nil {
		return console.Usage("%v", err)
	}
	command, err := quick.ParseCommand(words, f.each)
	if err != nil {
		return console.Usage("%v", err)
	}
	dim, say := a.StyleErr.Dim, func(format string, args ...any) { fmt.Fprintf(a.Err, format+"\n", args...) }
	if program := command.Program(); program != "" {
		if missing := advice.Program(folder, program); missing != "" {
			say("%s", a.StyleErr.Warn(missing+"; each run will fail until it is there"))
		}
	}
	ctx, stop := a.UntilSignal()
	defer stop()
	err = quick.Run(ctx, quick.Options{
		Targets: targets, Command: command, Folder: folder, Each: f.each, AtStart: f.atStart, StopOld: f.stopOld,
		WhileOpen: f.whileOpen, Terminal: a.onTerminal() && runner.HasTerminal(), Debounce: debounce,
		Ready: func(files, folders int) {
			say("%s", dim(fmt.Sprintf("Watching %s in %s for: %s. End with Ctrl-C.", plan.Plural(files, "file"),
				plan.Plural(folders, "folder"), ink.Clean(fill.Quote(words)))))
		},
		Open: func(path string, writers []writers.Process) {
			say("%s", a.StyleErr.Warn(openText(console.Display(console.Short(folder, path)), writers)))
		},
		Begin: func(files []string) {
			if f.clear && a.onTerminal() {
				fmt.Fprint(a.Out, "\x1b[H\x1b[2J\x1b[3J")
			}
			if len(files) > 0 {
				say("%s", dim(time.Now().Format("15:04:05")+"  "+nameList(folder, files)))
			}
		},
		End:     func(res runner.Result) { say("%s", a.quickEnd(res)) },
		Trouble: func(text string) { say("%s", a.StyleErr.Warn(ink.Clean(text))) },
	})
	if console.Terminal(a.Err) != nil {
		fmt.Fprintln(a.Err) // the terminal shows ^C, and what follows begins on a line of its own
	}
	return err
}

// openText says that a file is open, and what a run waits for.
func openText(name string, writers []writers.Process) string {
	who := "a program"
	if len(writers) > 0 {
		who = fmt.Sprintf("%s (process %d)", ink.Clean(writers[0].Program), writers[0].PID)
	}
	return fmt.Sprintf("%s is open for writing in %s; a run waits until it is closed (--while-open does not)", name,
		who)
}

// listed puts the list on standard input in the place of a single -.
func (a *app) listed(names []string, nul bool) ([]string, error) {
	if len(names) != 1 || names[0] != "-" {
		if nul {
			return nil, console.Usage("-0 is for a list on standard input; write - for the files")
		}
		for i := range names {
			names[i] = console.AtHome(names[i])
		}
		return names, nil
	}
	if !nul {
		var list []string
		lines := bufio.NewScanner(a.In)
		lines.Buffer(nil, 1<<20)
		for lines.Scan() {
			if lines.Text() != "" {
				list = append(list, lines.Text())
			}
		}
		return list, lines.Err()
	}
	text, err := io.ReadAll(a.In)
	if err != nil {
		return nil, err
	}
	return strings.FieldsFunc(string(text), func(r rune) bool { return r == 0 }), nil
}

func (a *app) onTerminal() bool {
	f, ok := a.Out.(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}

// nameList names the first files, and how many more there are.
func nameList(folder string, files []string) string {
	const most = 5
	var names []string
	for _, f := range files[:min(len(files), most)] {
		names = append(names, console.Display(console.Short(folder, f)))
	}
	text := strings.Join(names, ", ")
	if n := len(files) - most; n > 0 {
		text += fmt.Sprintf(" and %d more", n)
	}
	return text
}

// quickEnd says how a run ended.
func (a *app) quickEnd(res runner.Result) string {
	took := " after " + plan.Span(res.Ran)
	switch {
	case res.Err != nil:
		return a.StyleErr.Bad(res.Err.Error())
	case res.Stopped:
		return a.StyleErr.Dim("stopped" + took)
	case res.Signal != "":
		return a.StyleErr.Bad("ended by " + res.Signal + took)
	case res.Exit != 0:
		return a.StyleErr.Bad(fmt.Sprintf("exit code %d%s", res.Exit, took))
	}
	return a.StyleErr.Good("exit code 0" + took)
}
