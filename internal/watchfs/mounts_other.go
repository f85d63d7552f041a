//go:build !linux

package watchfs

// watchMounts does nothing where the system has no mount table to wait on;
// the safety sweep finds what was mounted.
func (w *Watcher) watchMounts() {}

// MountPoint is not known on this system.
func MountPoint(string) string { return "" }

// IsMountPoint is only asked for points that MountPoint gave.
func IsMountPoint(string) bool { return true }

// ListedMounts returns none: mount points are not known here.
func ListedMounts(string) []string { return nil }

// UnsureMounts returns none: mount points are not known here.
func UnsureMounts() []string { return nil }
