//go:build !linux

package writers

// Of finds nobody: this system does not tell.
func Of(string) []Process { return nil }
