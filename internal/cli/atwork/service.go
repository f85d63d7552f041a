package atwork

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"stilltide/internal/cli/console"
	"stilltide/internal/core/rule"
	"stilltide/internal/service"
)

func (a *app) serviceCommand() *cobra.Command {
	var name string
	var boot, lend bool
	parent := &cobra.Command{
		Use: "service", Short: "Start at log-in or at boot, and restart after a crash",
		Long: `Has the system start the watcher for this rules file, keep it running and restart it after a
crash: a systemd user unit on Linux, a launchd agent on macOS. Its lines go to the journal
(journalctl --user -u stilltide-NAME) or to ~/Library/Logs.

With --lend the machine is lent to a pool instead of watching; the options of fleet lend follow
after two dashes. docs/fleet.md has an example.

Where there is neither, start  stilltide --config FILE watch  from whatever starts programs
there, and have it restart the program when it ends with another status than 0, 2 or 3.`,
	}
	parent.RunE = func(c *cobra.Command, _ []string) error { return c.Help() }
	parent.PersistentFlags().StringVar(&name, "name", "",
		"the service's `NAME`, of letters, digits and dashes; made from "+
			"the folder of the rules file if left out")
	install := &cobra.Command{Use: "install", Short: "Start it now, and at each log-in", Args: cobra.ArbitraryArgs,
		Long: `Writes the unit and has the system start it. The unit keeps the PATH of this moment, so that the
programs that rules name are found as they are found here; install again after you have
changed it.`,
		RunE: func(_ *cobra.Command, args []string) error { return a.serviceInstall(name, boot, lend, args) }}
	show := &cobra.Command{Use: "show", Short: "Print what install would write and run, and where",
		Args: cobra.ArbitraryArgs,
		RunE: func(_ *cobra.Command, args []string) error { return a.serviceShow(name, boot, lend, args) }}
	for _, c := range []*cobra.Command{install, show} {
		c.Flags().BoolVar(&boot, "boot", false, "start it at boot, before anybody logs in (lingering)")
		c.Flags().BoolVar(&lend, "lend", false,
			"lend this machine to a pool; the options of fleet lend follow after two dashes")
	}
	parent.AddCommand(install,
		&cobra.Command{Use: "remove", Short: "Stop it, and do not start it again",
			RunE: func(*cobra.Command, []string) error { return a.serviceRemove(name) }}, show)
	return parent
}

// serviceOf says what the service runs: the watcher, or what lends this machine.
func (a *app) serviceOf(name string, lend bool, args []string) (service.Spec, error) {
	if !lend {
		if len(args) > 0 {
			return service.Spec{},
				console.Usage("%q is no option of a service; after --lend -- stand those of fleet lend",
					args[0])
		}
		return a.serviceSpec(name)
	}
	var l lending
	words, err := l.parse(a, args)
	if err != nil {
		return service.Spec{}, err
	}
	if name == "" {
		name = "lend-" + strings.ToLower(strings.ReplaceAll(l.pool, "_", "-"))
	}
	s, err := programSpec(name)
	if s.Lend = words; err == nil {
		s.StopAfter, err = rule.ParseDuration(l.stopAfter)
	}
	return s, err
}

// serviceSpec says what the service runs. The rules must be there; whether
// they are right is found out when it starts.
func (a *app) serviceSpec(name string) (service.Spec, error) {
	path, err := a.FindRules()
	if err != nil {
		return service.Spec{}, err
	}
	f, _, err := a.ReadRules()
	if err != nil {
		return service.Spec{}, err
	}
	if name == "" {
		name = service.NameFor(path)
	}
	s, err := programSpec(name)
	s.Rules, s.StopAfter = path, f.StopAfter()
	return s, err
}

// programSpec is a service of this program.
func programSpec(name string) (service.Spec, error) {
	program, err := os.Executable()
	if err != nil {
		return service.Spec{}, err
	}
	if resolved, err := filepath.EvalSymlinks(program); err == nil {
		program = resolved
	}
	if !service.ValidName(name) {
		return service.Spec{},
			console.Usage("%q cannot name a service; use small letters, digits and dashes, 63 at most", name)
	}
	return service.Spec{Name: name, Program: program, Path: os.Getenv("PATH"),
		Day: time.Now().Format(time.DateOnly)}, nil
}

func (a *app) serviceShow(name string, boot, lend bool, args []string) error {
	s, err := a.serviceOf(name, lend, args)
	if err != nil {
		return err
	}
	s.Boot = boot
	path, text, err := service.Text(s, runtime.GOOS)
	if err != nil {
		return noSystem(err)
	}
	fmt.Fprintf(a.Err, "%s\n", a.StyleErr.Dim("This is what stilltide service install writes to "+path+":"))
	fmt.Fprint(a.Out, text)
	fmt.Fprintf(a.Err, "%s\n", a.StyleErr.Dim("And this is what it runs then:"))
	for _, c := range service.Commands(s, path, runtime.GOOS) {
		fmt.Fprintf(a.Err, "%s\n", a.StyleErr.Dim("  "+strings.Join(c, " ")))
	}
	return nil
}

func (a *app) serviceInstall(name string, boot, lend bool, args []string) error {
	if !lend {
		if _, err := a.LoadRules(); err != nil { // a service that cannot start is of no use
			return err
		}
	}
	s, err := a.serviceOf(name, lend, args)
	if err != nil {
		return err
	}
	s.Boot = boot
	done, err := service.Install(s)
	a.serviceDone(done)
	if err != nil {
		return noSystem(err)
	}
	fmt.Fprintf(a.Err, "It runs now, and again at each %s. stilltide %s shows how it is.\n",
		map[bool]string{false: "log-in", true: "start of the machine"}[boot],
		map[bool]string{false: "status", true: "fleet, beside the rules,"}[lend])
	return nil
}

func (a *app) serviceRemove(name string) error {
	if name == "" {
		s, err := a.serviceSpec(name)
		if err != nil {
			return err
		}
		name = s.Name
	}
	if !service.ValidName(name) {
		return console.Usage("%q cannot name a service; use small letters, digits and dashes, 63 at most", name)
	}
	done, err := service.Remove(name)
	a.serviceDone(done)
	return noSystem(err)
}

func (a *app) serviceDone(done []string) {
	for _, d := range done {
		fmt.Fprintln(a.Err, a.StyleErr.Dim(d))
	}
}

// noSystem says what to do where nothing starts services.
func noSystem(err error) error {
	if errors.Is(err, service.ErrNoSystem) {
		return console.Usage("%v; stilltide service --help says what to do instead", err)
	}
	return err
}
