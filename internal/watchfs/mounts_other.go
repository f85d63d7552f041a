//go:build !linux

package watchfs

// watchMounts does nothing where the system has no mount table to wait on;
// the safety sweep finds what was mounted.
func (w *Watcher) watchMounts() {}
