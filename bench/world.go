//go:build linux

package main

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"time"
)

// fresh makes an empty folder for one side of one round.
func (b *bench) fresh(name string) (string, error) {
	dir := filepath.Join(b.folder, name)
	if err := os.RemoveAll(dir); err != nil {
		return "", err
	}
	return dir, os.MkdirAll(dir, 0o777)
}

// office makes a folder with a rules file and its watched folder `in`.
func (b *bench) office(name, rules string) (string, error) {
	dir, err := b.fresh(name)
	if err != nil {
		return "", err
	}
	if err := os.Mkdir(filepath.Join(dir, "in"), 0o777); err != nil {
		return "", err
	}
	return dir, os.WriteFile(filepath.Join(dir, "stilltide.yaml"), []byte("version: 1\n"+rules), 0o666)
}

// process is a program that runs beside the measurement.
type process struct{ cmd *exec.Cmd }

// start runs a program and waits for the line that says it is ready.
func (b *bench) start(ready, dir string, args ...string) (*process, error) {
	cmd := exec.Command(args[0], args[1:]...)
	cmd.Dir = dir
	cmd.Env = append(os.Environ(), "STAMPS="+filepath.Join(dir, "stamps"), "NOTIFY_SOCKET=")
	read, write, err := os.Pipe()
	if err != nil {
		return nil, err
	}
	cmd.Stdout, cmd.Stderr = write, write
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	write.Close()
	lines := bufio.NewScanner(read)
	for lines.Scan() {
		if strings.Contains(lines.Text(), ready) {
			go drain(read) // what it prints later is thrown away
			return &process{cmd}, nil
		}
	}
	read.Close()
	return nil, fmt.Errorf("%s ended before it was ready: %v", args[0], cmd.Wait())
}

// drain reads to the end, which comes when the program ends.
func drain(f *os.File) {
	defer f.Close()
	_, _ = io.Copy(io.Discard, f)
}

// watcher starts our watcher and waits until it watches.
func (b *bench) watcher(dir string) (*process, error) {
	p, err := b.start("End with Ctrl-C", dir, b.program, "watch")
	if err != nil {
		return nil, err
	}
	time.Sleep(300 * time.Millisecond) // the first look at its folders
	return p, nil
}

// stop asks a program to end.
func (p *process) stop() {
	_ = p.cmd.Process.Signal(os.Interrupt)
	_ = p.cmd.Wait()
}

// drop makes n small files, one after the other, as fast as it goes.
func drop(dir string, n int) error {
	content := []byte("12:00,1.23,12.6\n")
	for i := range n {
		if err := os.WriteFile(filepath.Join(dir, dropped(i)), content, 0o666); err != nil {
			return err
		}
	}
	return nil
}

// dropped is the name of one of the files.
func dropped(i int) string { return "gauge-" + strconv.Itoa(i) + ".csv" }

// until waits until a folder has so many entries. Reading a large folder would
// hold up who fills it, so it first waits for the one that was dropped last.
func until(dir, last string, n int) error {
	for end := time.Now().Add(5 * time.Minute); ; time.Sleep(2 * time.Millisecond) {
		if _, err := os.Stat(filepath.Join(dir, last)); err == nil {
			if have, err := entries(dir); err == nil && have >= n {
				return nil
			}
		}
		if time.Now().After(end) {
			return errors.New("it did not come to its end in five minutes")
		}
	}
}

// entries counts a folder's entries by its links and, where those say
// nothing, by reading it.
func entries(dir string) (int, error) {
	d, err := os.Open(dir)
	if err != nil {
		return 0, err
	}
	defer d.Close()
	names, err := d.Readdirnames(-1)
	return len(names), err
}

// timed runs a command and gives its wall time in seconds.
func timed(dir string, args ...string) (float64, error) {
	cmd := exec.Command(args[0], args[1:]...)
	cmd.Dir = dir
	var out bytes.Buffer
	cmd.Stderr = &out
	begun := time.Now()
	err := cmd.Run()
	took := time.Since(begun).Seconds()
	if err != nil {
		return 0, fmt.Errorf("%s: %w\n%s", strings.Join(args, " "), err, out.String())
	}
	return took, nil
}

// status reads a number from /proc/PID/status (proc_pid_status(5)).
func (p *process) status(key string) float64 {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", p.cmd.Process.Pid))
	if err != nil {
		return 0
	}
	for _, line := range strings.Split(string(text), "\n") {
		if rest, ok := strings.CutPrefix(line, key+":"); ok {
			n, _ := strconv.ParseFloat(strings.Fields(rest)[0], 64)
			return n
		}
	}
	return 0
}

// wakeups adds up the voluntary context switches of all threads.
func (p *process) wakeups() (n float64) {
	threads, _ := filepath.Glob(fmt.Sprintf("/proc/%d/task/*/status", p.cmd.Process.Pid))
	for _, path := range threads {
		text, _ := os.ReadFile(path)
		for _, line := range strings.Split(string(text), "\n") {
			if rest, ok := strings.CutPrefix(line, "voluntary_ctxt_switches:"); ok {
				v, _ := strconv.ParseFloat(strings.TrimSpace(rest), 64)
				n += v
			}
		}
	}
	return n
}

// ticks is the CPU time of the process in clock ticks (proc_pid_stat(5)).
func (p *process) ticks() float64 {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", p.cmd.Process.Pid))
	if err != nil {
		return 0
	}
	_, rest, _ := strings.Cut(string(text), ") ")
	fields := strings.Fields(rest)
	user, _ := strconv.ParseFloat(fields[11], 64)
	system, _ := strconv.ParseFloat(fields[12], 64)
	return user + system
}
