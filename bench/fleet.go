//go:build linux

package main

import (
	"bytes"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"stilltide/docs"
	"stilltide/internal/core/job"
	"stilltide/internal/ledger"
)

// yard is a server and helpers, as processes on this machine.
type yard struct {
	b       *bench
	dir     string
	address string
	trusted string
	runs    []*process
}

// openYard starts a server and as many helpers as are wanted, with four workers each.
func (b *bench) openYard(helpers int) (y *yard, err error) {
	y = &yard{b: b}
	if y.dir, err = b.fresh("yard"); err != nil {
		return nil, err
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	y.address = l.Addr().String()
	_, port, _ := strings.Cut(y.address, ":")
	l.Close()
	conf := strings.Replace(docs.LoopbackServer, "4222", port, 1)
	conf = strings.Replace(conf, "$TIDE_STORE", filepath.Join(y.dir, "store"), 1)
	if err := os.WriteFile(filepath.Join(y.dir, "server.conf"), []byte(conf), 0o600); err != nil {
		return nil, err
	}
	for _, name := range []string{"watcher.nk", "helper.nk"} {
		out, err := exec.Command(b.program, "fleet", "make-key", filepath.Join(y.dir, name)).Output()
		if err != nil {
			return nil, err
		}
		if name == "watcher.nk" {
			y.trusted = string(bytes.TrimSpace(out))
		}
	}
	server, err := b.start("Server is ready", y.dir, b.tool("node"), "-c", "server.conf")
	if err != nil {
		return nil, err
	}
	y.runs = append(y.runs, server)
	for n := range helpers {
		name := fmt.Sprint("h", n)
		h, err := b.start("connected", y.dir, b.program, "fleet", "lend", "--pool", "heavy", "--workers", "4", "--name",
			name, "--folder", filepath.Join(y.dir, name), "--server", "nats://"+y.address, "--key-file", "helper.nk",
			"--trust", y.trusted)
		if err != nil {
			y.close()
			return nil, err
		}
		y.runs = append(y.runs, h)
	}
	return y, nil
}

func (y *yard) close() {
	for _, p := range slices.Backward(y.runs) {
		p.stop()
	}
}

// rules are those of an office whose commands run there; "" for here.
func (y *yard) rules(command string, there bool) string {
	if !there {
		return "workers: 2\nrules: [{name: work, watch: in, debounce: 0s, run: " + command + ", processed: out}]\n"
	}
	return fmt.Sprintf("workers: 2\nfleet: {server: \"nats://%s\", key_file: %s}\nrules: [{name: work, watch: in, "+
		"debounce: 0s, pool: heavy, run: %s, processed: out}]\n", y.address, filepath.Join(y.dir, "watcher.nk"),
		command)
}

// fleetCase: what a command costs more on another machine, and what more machines gain.
func fleetCase(b *bench) error {
	y, err := b.openYard(1)
	if err != nil {
		return err
	}
	for _, size := range []struct {
		kib  int
		goal float64
	}{{1, 5}, {64, 10}} {
		r := Result{Case: fmt.Sprintf("a job of %d KiB on a helper, median", size.kib), Unit: "ms", Baseline: "here"}
		for range b.rounds {
			here, err := b.oneByOne(y.rules("/bin/true", false), size.kib)
			if err != nil {
				y.close()
				return err
			}
			there, err := b.oneByOne(y.rules("/bin/true", true), size.kib)
			if err != nil {
				y.close()
				return err
			}
			r.Base, r.Ours = append(r.Base, here), append(r.Ours, there)
		}
		b.add(r, "difference", size.goal)
	}
	y.close()
	return b.scaling()
}

// oneByOne returns the median time in milliseconds that an attempt takes, each alone.
func (b *bench) oneByOne(rules string, kib int) (float64, error) {
	n := b.count(60)
	dir, err := b.office("one", rules)
	if err != nil {
		return 0, err
	}
	p, err := b.watcher(dir)
	if err != nil {
		return 0, err
	}
	defer p.stop()
	for i := range n {
		content := bytes.Repeat([]byte(fmt.Sprintf("%015d\n", i)), kib*64)
		if err := os.WriteFile(filepath.Join(dir, "in", dropped(i)), content, 0o666); err != nil {
			return 0, err
		}
		if err := until(filepath.Join(dir, "out"), dropped(i), i+1); err != nil {
			return 0, err
		}
	}
	l, err := ledger.Read(filepath.Join(dir, ".stilltide"))
	if err != nil {
		return 0, err
	}
	defer l.Close()
	jobs, err := l.Jobs(job.Filter{})
	if err != nil {
		return 0, err
	}
	var ran []float64
	for _, j := range jobs {
		ran = append(ran, j.Ran.Seconds()*1e3)
	}
	slices.Sort(ran)
	return ran[len(ran)/2], nil
}

// scaling: commands of 200 ms on four helpers, against two workers here.
func (b *bench) scaling() error {
	y, err := b.openYard(4)
	if err != nil {
		return err
	}
	defer y.close()
	n := b.count(320)
	r := Result{Case: fmt.Sprintf("%d commands of 200 ms, 16 workers of 4 helpers", n), Unit: "s",
		Baseline: "2 workers here"}
	sleep := "{run: sleep 0.2, add_file: false}"
	for range b.rounds {
		var took [2]float64
		for i, there := range []bool{false, true} {
			rules := strings.Replace(y.rules("COMMAND", there), "run: COMMAND", "do: ["+sleep+"]", 1)
			dir, err := b.office("scaling", rules)
			if err != nil {
				return err
			}
			if err := drop(filepath.Join(dir, "in"), n); err != nil {
				return err
			}
			begun := time.Now()
			if _, err := timed(dir, b.program, "sweep", "--json"); err != nil {
				return err
			}
			took[i] = time.Since(begun).Seconds()
		}
		r.Base, r.Ours = append(r.Base, took[0]), append(r.Ours, took[1])
	}
	b.add(r, "ratio", 1.0/7)
	return nil
}
