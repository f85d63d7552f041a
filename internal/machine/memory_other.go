//go:build !linux

package machine

import "testing"

func roomInMemory() bool { return false }

func device(t testing.TB, _ string) uint64 {
	Lacks(t, "only on Linux it is known which file system is in memory")
	return 0
}
