package notify

import (
	"crypto/rand"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"stilltide/internal/core/notice"
)

// outbox keeps messages until they are delivered: one JSON file each, written
// whole under another name and then renamed, so that a crash leaves no half one.
type outbox struct {
	folder string
}

// folderName is the outbox's folder in the state folder.
const folderName = "notices"

func openOutbox(state string) (outbox, error) {
	b := outbox{filepath.Join(state, folderName)}
	if err := os.MkdirAll(b.folder, 0o700); err != nil {
		return b, fmt.Errorf("the state folder cannot be used: %w", err)
	}
	return b, nil
}

// newID names a message. Names sort by time.
func newID(at time.Time) string {
	return fmt.Sprintf("%019d-%s", at.UnixNano(), strings.ToLower(rand.Text()[:12]))
}

func (b outbox) path(id string) string { return filepath.Join(b.folder, id+".json") }

func (b outbox) put(m notice.Message) (id string, err error) {
	text, err := json.Marshal(m)
	if err != nil {
		return "", err
	}
	id = newID(m.Last)
	part := filepath.Join(b.folder, ".stilltide-"+id)
	if err := os.WriteFile(part, text, 0o600); err != nil {
		os.Remove(part)
		return "", err
	}
	return id, os.Rename(part, b.path(id))
}

func (b outbox) get(id string) (m notice.Message, err error) {
	text, err := os.ReadFile(b.path(id))
	if err != nil {
		return m, err
	}
	return m, json.Unmarshal(text, &m)
}

func (b outbox) remove(id string) { _ = os.Remove(b.path(id)) } // one that stays is delivered twice at most

// waiting lists the messages by channel, oldest first.
func (b outbox) waiting() map[string][]string {
	entries, _ := os.ReadDir(b.folder) // none to be read is none to be sent
	byChannel := map[string][]string{}
	for _, e := range entries {
		id, ok := strings.CutSuffix(e.Name(), ".json")
		if !ok {
			continue
		}
		if m, err := b.get(id); err == nil {
			byChannel[m.Channel] = append(byChannel[m.Channel], id)
		}
	}
	for _, ids := range byChannel {
		slices.Sort(ids)
	}
	return byChannel
}

// Undelivered counts the notices of a state folder, by channel, that were made before a time
// and have not been delivered. Anybody may ask, also without a watcher.
func Undelivered(state string, before time.Time) map[string]int {
	b := outbox{filepath.Join(state, folderName)}
	byChannel := map[string]int{}
	for channel, ids := range b.waiting() {
		for _, id := range ids {
			if made, ok := madeAt(id); ok && made.Before(before) {
				byChannel[channel]++
			}
		}
	}
	return byChannel
}

// madeAt is when a message got its name.
func madeAt(id string) (time.Time, bool) {
	nanos, _, _ := strings.Cut(id, "-")
	n, err := strconv.ParseInt(nanos, 10, 64)
	return time.Unix(0, n), err == nil
}
