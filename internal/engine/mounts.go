package engine

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"stilltide/internal/core/plan"
	"stilltide/internal/watchfs"
)

// mounts remembers on which mount point each folder lay, so that an unplugged
// disk is not taken for an empty folder, nor written beside.
type mounts struct {
	mu     sync.Mutex
	expect map[string]string // by folder, from the ledger
	listed []string          // where the machine's table of disks says that some belong
}

// missing says that the disk of a folder is not mounted now, nil if it is.
func (m *mounts) missing(folder string) error {
	m.mu.Lock()
	point := m.expect[folder]
	m.mu.Unlock()
	if point == "" || point == "/" {
		point = m.unused(folder)
	}
	if point == "" || watchfs.IsMountPoint(point) {
		return nil
	}
	return fmt.Errorf("its disk, mounted at %s, is not there", point)
}

// unused is the place of a disk, by the machine's table, that a folder lies in or below
// and where nothing is, "" if there is none. Where something is, somebody uses the folder
// without its disk.
func (m *mounts) unused(folder string) string {
	for _, point := range m.listed {
		if folder != point && !strings.HasPrefix(folder, point+"/") {
			continue
		}
		if entries, err := os.ReadDir(point); len(entries) == 0 && (err == nil || errors.Is(err, fs.ErrNotExist)) {
			return point
		}
	}
	return ""
}

// begin remembers where the rules' fixed destinations lie that were not known before.
func (m *mounts) begin(l store, set *plan.Set) {
	m.listed = watchfs.ListedMounts("/etc/fstab")
	for _, folder := range set.FixedPlaces() {
		if m.nearest(folder) == "" && m.missing(folder) == nil && watchfs.MountPoint(folder) != "/" {
			m.note(l, folder)
		}
	}
}

// note remembers a folder's mount point when it is there.
func (m *mounts) note(l store, folder string) {
	point := watchfs.MountPoint(folder)
	m.mu.Lock()
	defer m.mu.Unlock()
	if point == "" || m.expect[folder] == point {
		return
	}
	m.expect[folder] = point
	if point != "/" { // the root is always there
		l.RememberMount(folder, point)
	}
}

// mounted fails if the disk on which a destination lay is not mounted, so
// that nothing is made on the disk below. The first use remembers it.
func (e *Engine) mounted(folder string) error {
	if err := e.answering(folder, answerPatience); err != nil {
		return err
	}
	at := e.mounts.nearest(folder)
	if at == "" {
		if err := e.mounts.missing(folder); err != nil {
			return fmt.Errorf("%s: %w", folder, err)
		}
		e.mounts.note(e.ledger, folder)
		return nil
	}
	if err := e.mounts.missing(at); err != nil {
		return fmt.Errorf("%s: %w", folder, err)
	}
	return nil
}

// nearest is the closest folder at or above a path whose mount point is
// remembered, "" if there is none.
func (m *mounts) nearest(folder string) string {
	m.mu.Lock()
	defer m.mu.Unlock()
	for {
		if m.expect[folder] != "" {
			return folder
		}
		up := filepath.Dir(folder)
		if up == folder {
			return ""
		}
		folder = up
	}
}

// accept forgets the mount points of the rules' folders: a person says that
// what is there now is what is meant.
func (m *mounts) accept(l store, set *plan.Set, names []string) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, r := range set.Rules() {
		if !slices.Contains(names, r.Name.S) {
			continue
		}
		for _, folder := range r.Folders {
			if m.expect[folder] != "" {
				delete(m.expect, folder)
				l.RememberMount(folder, "")
			}
		}
	}
}
