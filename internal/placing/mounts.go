package placing

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"stilltide/internal/core/plan"
	"stilltide/internal/look"
	"stilltide/internal/watchfs"
)

// mountBook is where mount points are remembered.
type mountBook interface{ RememberMount(folder, point string) }

// Mounts remembers on which mount point each folder lay, so that an unplugged
// disk is not taken for an empty folder, nor written beside.
type Mounts struct {
	mu     sync.Mutex
	expect map[string]string // by folder, from the ledger
	listed []string          // where the machine's table of disks says that some belong
}

// Missing says that the disk of a folder is not mounted now, nil if it is.
func (m *Mounts) Missing(folder string) error {
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
func (m *Mounts) unused(folder string) string {
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

// Begin goes on with the mount points that are known by folder, and remembers where the
// rules' fixed destinations lie that are not among them.
func (m *Mounts) Begin(l mountBook, set *plan.Set, known map[string]string) {
	m.expect = known
	m.listed = watchfs.ListedMounts("/etc/fstab")
	for _, folder := range set.FixedPlaces() {
		if m.nearest(folder) == "" && m.Missing(folder) == nil && watchfs.MountPoint(folder) != "/" {
			m.Note(l, folder)
		}
	}
}

// Note remembers a folder's mount point when it is there.
func (m *Mounts) Note(l mountBook, folder string) {
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

// Mounted fails if the disk on which a destination lay is not mounted, so
// that nothing is made on the disk below. The first use remembers it.
func (d *Desk) Mounted(folder string) error {
	if err := d.answers.Reach(folder, look.ReachPatience); err != nil {
		return err
	}
	err := d.Mounts.Away(folder)
	if err == nil && d.Mounts.nearest(folder) == "" {
		d.Mounts.Note(d.ledger, folder)
	}
	return err
}

// Away says that the disk on which a folder lay, or the nearest one above it that is remembered, is not mounted now;
// nil if it is.
func (m *Mounts) Away(folder string) error {
	if err := m.Missing(cmp.Or(m.nearest(folder), folder)); err != nil {
		return fmt.Errorf("%s: %w", folder, err)
	}
	return nil
}

// nearest is the closest folder at or above a path whose mount point is
// remembered, "" if there is none.
func (m *Mounts) nearest(folder string) string {
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

// Accept forgets the mount points of the rules' folders: a person says that
// what is there now is what is meant.
func (m *Mounts) Accept(l mountBook, set *plan.Set, names []string) {
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
