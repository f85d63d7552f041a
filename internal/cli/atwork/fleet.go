package atwork

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"stilltide/internal/cli/console"
	"stilltide/internal/core/plan"
	"stilltide/internal/fleet"
	"stilltide/internal/jsonlines"
	"stilltide/internal/wire"
)

func (a *app) fleetCommand() *cobra.Command {
	c := a.JSONFlag(&cobra.Command{
		Use: "fleet", Short: "The machines that run commands of pools, and what each runs",
		Args: cobra.NoArgs,
		Long: `Asks the helpers how they stand: pools, machines, workers, and the jobs that each runs. A rule
with pool: has its commands run there; docs/fleet.md tells how to set one up.`,
		RunE: func(*cobra.Command, []string) error { return a.showFleet() },
	})
	c.AddCommand(a.lendCommand(), &cobra.Command{
		Use: "make-key FILE", Short: "Make a key for a watcher or a helper",
		Args: cobra.ExactArgs(1),
		Long: `Writes a new key to FILE, which only you can read, and prints its public half: for the server's
list of users, and for the --trust of helpers. A file that is there stays as it is.`,
		RunE: func(_ *cobra.Command, args []string) error {
			public, err := wire.MakeKey(args[0])
			if err == nil {
				fmt.Fprintln(a.Out, public)
			}
			return err
		},
	})
	return c
}

func (a *app) showFleet() error {
	f, err := a.LoadRules()
	if err != nil {
		return err
	}
	if f.Fleet == nil {
		return console.Usage("%s names no other machines: there is no fleet: in it", a.Shown(f.Path))
	}
	own := ""
	if l, err := a.ReadLedger(f); err == nil && l != nil {
		defer l.Close()
		if own, err = l.KnownIdentity(); err != nil {
			return err
		}
	}
	pools, err := fleet.Ask(context.Background(), f.Fleet, f.Pools(), own)
	if err != nil {
		return console.Found(err.Error())
	}
	if a.JSON {
		return a.fleetLines(pools)
	}
	workers, busy, helpers := 0, 0, 0
	var rows [][]console.Cell
	for _, p := range pools {
		if len(p.Helpers) == 0 {
			rows = append(rows, []console.Cell{{Text: p.Name, Whole: true}, {Text: "no helper", Paint: a.Style.Warn},
				{Text: "-", Right: true}, {Text: "-", Right: true}, {Text: ""}, {Text: ""}})
		}
		for _, h := range p.Helpers {
			helpers, workers, busy = helpers+1, workers+h.Workers, busy+len(h.Runs)
			rows = append(rows, []console.Cell{{Text: p.Name, Whole: true}, {Text: h.Name},
				{Text: fmt.Sprint(h.Workers),
					Right: true},
				{Text: fmt.Sprint(len(h.Runs)), Right: true}, {Text: h.Version}, {Text: runsText(h.Runs)}})
		}
	}
	fmt.Fprintln(a.Out, a.Style.Bold(fmt.Sprintf("%s, %s, %d busy.", plan.Plural(helpers, "helper"),
		plan.Plural(workers, "worker"), busy)))
	if len(rows) > 0 {
		fmt.Fprintln(a.Out)
		a.Table([]string{"POOL", "HELPER", "WORKERS", "BUSY", "VERSION", "RUNS"}, rows)
	}
	if helpers == 0 {
		fmt.Fprintf(a.Err, "\nstilltide fleet lend lends a machine; see stilltide fleet lend --help.\n")
		return &console.ExitError{Status: console.ExitFound}
	}
	return nil
}

// maxNumbers bounds the jobs of a rule that are named for one helper.
const maxNumbers = 6

// runsText names what a helper runs, by rule.
func runsText(runs []fleet.Running) string {
	byRule, others := map[string][]fleet.Running{}, 0
	for _, r := range runs {
		if r.Own {
			byRule[r.Rule] = append(byRule[r.Rule], r)
		} else {
			others++
		}
	}
	var parts []string
	for _, name := range slices.Sorted(maps.Keys(byRule)) {
		parts = append(parts, ruleRuns(name, byRule[name]))
	}
	if others > 0 {
		parts = append(parts, fmt.Sprintf("%d of other watchers", others))
	}
	return strings.Join(parts, "; ")
}

// ruleRuns says which jobs of one rule a helper runs, and for how long.
func ruleRuns(name string, runs []fleet.Running) string {
	longest := time.Duration(0)
	var numbers []string
	slices.SortFunc(runs, func(a, b fleet.Running) int { return cmp.Compare(a.Job, b.Job) })
	for _, r := range runs {
		longest = max(longest, time.Since(r.Since))
		numbers = append(numbers, fmt.Sprint(r.Job))
	}
	if len(runs) == 1 {
		return fmt.Sprintf("job %s of %s, for %s", numbers[0], name, plan.Span(longest))
	}
	list := strings.Join(numbers[:min(len(numbers), maxNumbers)], ", ")
	if n := len(numbers) - maxNumbers; n > 0 {
		list += fmt.Sprintf(" and %d more", n)
	}
	return fmt.Sprintf("jobs %s of %s, the longest for %s", list, name, plan.Span(longest))
}

func (a *app) fleetLines(pools []fleet.Pool) error {
	for _, p := range pools {
		if len(p.Helpers) == 0 {
			if err := a.PrintJSON(jsonlines.Helper{Pool: p.Name, Jobs: []int64{}}); err != nil {
				return err
			}
		}
		for _, h := range p.Helpers {
			line := jsonlines.Helper{Pool: p.Name, Helper: h.Name, Workers: h.Workers, Busy: len(h.Runs),
				Jobs:    []int64{},
				Version: h.Version, SeenAt: h.SeenAt}
			for _, r := range h.Runs {
				if r.Own {
					line.Jobs = append(line.Jobs, r.Job)
				}
			}
			if err := a.PrintJSON(line); err != nil {
				return err
			}
		}
	}
	return nil
}

// lending are the options of fleet lend.
type lending struct {
	pool, name, keyFile, ca, folder, user string
	servers, trust                        []string
	workers                               int
	maxSize, maxKept, maxTime, stopAfter  string
}

func (a *app) lendCommand() *cobra.Command {
	var l lending
	c := &cobra.Command{
		Use: "lend", Short: "Lend this machine: run the commands of a pool for other watchers",
		Args: cobra.NoArgs,
		Long: `Takes commands of a pool from the engine, runs each in a folder of its own, and sends back what
it made and printed. It has no rules file and no ledger, and touches no folder but its own. It
runs only what a watcher has signed that --trust names.

Ctrl-C ends it: running commands get --stop-after to end by themselves; one that does not is
stopped, and another helper runs it.`,
		Example: `  stilltide fleet lend --pool heavy --server nats://127.0.0.1:4222 \
    --key-file helper.nk --trust UABC…`,
		RunE: func(*cobra.Command, []string) error { return a.lend(l) },
	}
	l.options(c.Flags())
	return c
}

// parse reads the options, checks them, and returns them as a service needs them: with whole
// paths.
func (l *lending) parse(a *app, args []string) (words []string, err error) {
	f := pflag.NewFlagSet("lend", pflag.ContinueOnError)
	l.options(f)
	if err := f.Parse(args); err != nil {
		return nil, console.Usage("%v; see stilltide fleet lend --help", err)
	}
	if len(f.Args()) > 0 {
		return nil, console.Usage("%q is no option of fleet lend", f.Args()[0])
	}
	if _, err := a.lendingOf(*l); err != nil {
		return nil, err
	}
	f.Visit(func(o *pflag.Flag) {
		value := o.Value.String()
		if list, is := o.Value.(pflag.SliceValue); is {
			value = strings.Join(list.GetSlice(), ",")
		}
		if o.Name == "key-file" || o.Name == "ca" || o.Name == "folder" {
			value = console.Absolute(value)
		}
		words = append(words, "--"+o.Name, value)
	})
	return words, nil
}

// options are those of fleet lend.
func (l *lending) options(f *pflag.FlagSet) {
	f.StringVar(&l.pool, "pool", "", "the pool's `NAME`, as rules have it")
	f.StringSliceVar(&l.servers, "server", nil, "address of a server, `nats://HOST:PORT`; several for a cluster")
	f.StringVar(&l.keyFile, "key-file", "", "this helper's own key `FILE`, made by stilltide fleet make-key")
	f.StringVar(&l.ca, "ca", "", "the certificate `FILE` of the authority that signed the servers' certificates")
	f.StringSliceVar(&l.trust, "trust", nil,
		"the public `KEY` of a watcher whose commands it runs; several are allowed")
	f.IntVar(&l.workers, "workers", 0, "how many commands run at once, `N` (default: the number of CPUs)")
	f.StringVar(&l.name, "name", "", "this machine's `NAME`, as others see it (default: the host's name)")
	f.StringVar(&l.folder, "folder", "", "its own `FOLDER` (default: stilltide-lend in the XDG state folder)")
	f.StringVar(&l.user, "user", "", "become this `USER` first, if it was started as root")
	f.StringVar(&l.maxSize, "max-size", "16GB", "how large the inputs, or what a command makes, may be: `SIZE`")
	f.StringVar(&l.maxTime, "max-time", "0", "how long a command may take, `TIME`; 0 for no bound of its own")
	f.StringVar(&l.maxKept, "max-kept", "2GB", "how much of the files that travel along is kept: `SIZE`")
	f.StringVar(&l.stopAfter, "stop-after", "30s", "how long running commands get at its end, `TIME`")
}
