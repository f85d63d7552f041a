// Package presence notices another watcher of a folder that several machines share.
//
// Each watcher keeps a small hidden file in the folder, and writes it anew every few seconds. The
// times of these files are compared with one another, so that the clocks of the machines do not
// matter. What is older than a minute was left by a watcher that ended without a word.
package presence

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"stilltide/internal/core/plan"
)

// Note is what a watcher says of itself.
type Note struct {
	Machine string    `json:"machine"`
	PID     int       `json:"pid"`
	Since   time.Time `json:"since"`
	State   string    `json:"state_folder"` // with the machine's name it tells one watcher from another
}

const (
	prefix = plan.HiddenPrefix + "here-"
	beat   = 15 * time.Second
	stale  = 4 * beat
)

// Claim is a watcher's file in a folder. It is written anew until Release.
type Claim struct {
	path string
	note []byte
	end  chan struct{}
	done sync.WaitGroup
}

// name is that of a watcher's file.
func (n Note) name() string {
	sum := sha256.Sum256([]byte(n.Machine + "\x00" + n.State))
	return prefix + hex.EncodeToString(sum[:4])
}

// Take says in a folder that this watcher works on it. If another one does, other is what that
// said, and the claim is nil unless beside tells that this is wanted.
func Take(folder string, own Note, beside bool) (c *Claim, other *Note, err error) {
	text, err := json.Marshal(own)
	if err != nil {
		return nil, nil, err
	}
	c = &Claim{path: filepath.Join(folder, own.name()), note: text, end: make(chan struct{})}
	before, err := others(folder, own)
	if err != nil {
		return nil, nil, err
	}
	if err := c.write(); err != nil {
		return nil, nil, fmt.Errorf("no note can be left in %s for other watchers: %w", plan.Display(folder), err)
	}
	if other, err = c.other(folder, own, before); (other != nil || err != nil) && !beside {
		return nil, other, errors.Join(err, os.Remove(c.path))
	}
	c.done.Go(c.keep)
	return c, other, err
}

// other finds a watcher that was here before, or that came in the same moment and goes first.
func (c *Claim) other(folder string, own Note, before map[string]bool) (*Note, error) {
	info, err := os.Stat(c.path)
	if err != nil {
		return nil, err
	}
	now, err := others(folder, own)
	if err != nil {
		return nil, err
	}
	for name := range now {
		path := filepath.Join(folder, name)
		at, err := os.Stat(path)
		if err != nil || info.ModTime().Sub(at.ModTime()) > stale {
			continue // it has just ended, or long ago
		}
		var note Note
		text, err := os.ReadFile(path)
		if err != nil || json.Unmarshal(text, &note) != nil {
			note = Note{Machine: "another machine"} // it is being written
		}
		if before[name] || note.Since.Before(own.Since) || note.Since.Equal(own.Since) && name < own.name() {
			return &note, nil
		}
	}
	return nil, nil
}

// others lists the files of other watchers.
func others(folder string, own Note) (map[string]bool, error) {
	entries, err := os.ReadDir(folder)
	if err != nil {
		return nil, err
	}
	list := map[string]bool{}
	for _, e := range entries {
		if strings.HasPrefix(e.Name(), prefix) && e.Name() != own.name() {
			list[e.Name()] = true
		}
	}
	return list, nil
}

func (c *Claim) write() error {
	f, err := os.OpenFile(c.path, os.O_WRONLY|os.O_CREATE, 0o644) // never empty for those who read it
	if err != nil {
		return err
	}
	_, err = f.Write(c.note)
	if err == nil {
		err = f.Truncate(int64(len(c.note)))
	}
	return errors.Join(err, f.Close())
}

func (c *Claim) keep() {
	tick := time.NewTicker(beat)
	defer tick.Stop()
	for {
		select {
		case <-c.end:
			return
		case <-tick.C:
			_ = c.write() // the folder may be away for a while
		}
	}
}

// Release takes the note away. It does not wait for a folder that does not answer.
func (c *Claim) Release() {
	close(c.end)
	over := make(chan struct{})
	go func() { // ends when the folder answers
		c.done.Wait()
		_ = os.Remove(c.path)
		close(over)
	}()
	select {
	case <-over:
	case <-time.After(time.Second):
	}
}
