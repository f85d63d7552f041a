package place

import "stilltide/internal/core/file"

// guarded asks before each operation.
type guarded struct {
	ops
	before func(operation string, paths ...string) error
}

func (g guarded) Hold(path string) (heldFile, error) {
	if err := g.before("hold", path); err != nil {
		return nil, err
	}
	return g.ops.Hold(path)
}

func (g guarded) Stat(path string) (file.Facts, error) {
	if err := g.before("stat", path); err != nil {
		return file.Facts{}, err
	}
	return g.ops.Stat(path)
}

func (g guarded) Rename(from, to string) error {
	if err := g.before("rename", from, to); err != nil {
		return err
	}
	return g.ops.Rename(from, to)
}

func (g guarded) MakeFolder(path string) error {
	if err := g.before("mkdir", path); err != nil {
		return err
	}
	return g.ops.MakeFolder(path)
}

func (g guarded) Copy(from, to string) error {
	if err := g.before("copy", from, to); err != nil {
		return err
	}
	return g.ops.Copy(from, to)
}

func (g guarded) Write(path string, content []byte) error {
	if err := g.before("write", path); err != nil {
		return err
	}
	return g.ops.Write(path, content)
}

func (g guarded) FlushFolder(path string) error {
	if err := g.before("flush", path); err != nil {
		return err
	}
	return g.ops.FlushFolder(path)
}

func (g guarded) Remove(path string) error {
	if err := g.before("remove", path); err != nil {
		return err
	}
	return g.ops.Remove(path)
}
