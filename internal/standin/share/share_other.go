//go:build !linux

package share

import (
	"errors"
	"time"
)

// Share is a share that is mounted.
type Share struct{}

// Serve does nothing here.
func Serve() {}

// Mount cannot mount here.
func Mount(string, string) (*Share, error) { return nil, errors.New("no FUSE on this system") }

// MountFar cannot mount here.
func MountFar(string, string, time.Duration) (*Share, error) { return Mount("", "") }

func (*Share) Hang() error { return nil }
func (*Share) GoOn() error { return nil }
func (*Share) Unmount()    {}
