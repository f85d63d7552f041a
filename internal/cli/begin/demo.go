package begin

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"

	"github.com/spf13/cobra"

	"stilltide/internal/cli/console"
	"stilltide/internal/demo"
	"stilltide/internal/lock"
)

func (a *app) demoCommand() *cobra.Command {
	var folder, server string
	var keep, withFleet bool
	c := &cobra.Command{
		Use: "demo", Short: "Run the whole example: a made-up harbour office, its rules and what arrives",
		Long: `Makes a folder, runs the real watcher on it, drops files in, and shows what happens. It ends
by itself in a few seconds and says where to look. The exit status is 1 if anything did not
turn out as it must.

With --fleet the commands of two rules run on other machines: a NATS server and two helpers, as
processes on loopback, one of which is killed in the middle.`,
		RunE: func(*cobra.Command, []string) error {
			if !withFleet {
				return a.demo(folder, keep, "")
			}
			program, err := findServer(server)
			if err != nil {
				return err
			}
			return a.demo(folder, keep, program)
		},
	}
	c.Flags().BoolVar(&withFleet, "fleet", false, "run commands on two helpers, over a NATS server")
	c.Flags().StringVar(&server, "server-program", "nats-server", "the NATS server for --fleet: a `PROGRAM`")
	c.Flags().StringVar(&folder, "folder", "", "make the example in this `FOLDER`, which must be empty or new")
	c.Flags().BoolVar(&keep, "keep", false, "leave the folder of an earlier demo alone and make another")
	return c
}

// demo runs the whole example; server is the program of an engine for other machines, "" for none.
func (a *app) demo(folder string, keep bool, server string) error {
	if runtime.GOOS == "windows" {
		return console.Usage("the demo's programs need sh and awk, which this system does not have")
	}
	folder, err := demoFolder(folder, keep)
	if err != nil {
		return err
	}
	ctx, stop := a.UntilSignal()
	defer stop()
	err = demo.Play(demo.Options{Until: ctx, Folder: folder, Server: server, Out: a.Out, Style: a.Style, Run: a.run})
	if errors.Is(err, demo.ErrWrong) {
		return console.Found(err.Error())
	}
	return err
}

// demoFolder returns an empty folder. The folder of an earlier demo is replaced
// unless it is to be kept; no other folder is ever emptied.
func demoFolder(folder string, keep bool) (string, error) {
	if folder != "" {
		folder = console.Absolute(folder)
		entries, err := os.ReadDir(folder)
		if err == nil && len(entries) > 0 {
			return "", console.Usage("%s is not empty; name a new folder", folder)
		}
		return folder, os.MkdirAll(folder, 0o777)
	}
	const mark = ".stilltide-demo"
	base := filepath.Join(os.TempDir(), fmt.Sprintf("stilltide-demo-%d", os.Getuid()))
	for n := 1; ; n++ {
		path := base
		if n > 1 {
			path = fmt.Sprintf("%s-%d", base, n)
		}
		if _, err := os.Lstat(path); err == nil {
			if _, err := os.Stat(filepath.Join(path, mark)); err != nil || keep ||
				lock.InUse(filepath.Join(path, ".stilltide")) {
				continue
			}
			if err := os.RemoveAll(path); err != nil {
				return "", err
			}
		}
		if err := os.Mkdir(path, 0o700); err != nil {
			return "", err
		}
		return path, os.WriteFile(filepath.Join(path, mark), nil, 0o600)
	}
}

// findServer finds the program of the server.
func findServer(program string) (string, error) {
	found, err := exec.LookPath(program)
	if err != nil {
		return "", console.Usage("demo --fleet needs a NATS server, and %s is not there: install nats-server, or "+
			"name another program with --server-program (go build ./internal/standin/node makes one)", program)
	}
	return filepath.Abs(found)
}
