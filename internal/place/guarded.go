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

func (g guarded) StatIn(d *folder, name string) (file.Facts, error) {
	if err := g.before("stat", d.at(name)); err != nil {
		return file.Facts{}, err
	}
	return g.ops.StatIn(d, name)
}

func (g guarded) Rename(from, to string) error {
	if err := g.before("rename", from, to); err != nil {
		return err
	}
	return g.ops.Rename(from, to)
}

func (g guarded) RenameInto(from string, d *folder, name string) error {
	if err := g.before("rename", from, d.at(name)); err != nil {
		return err
	}
	return g.ops.RenameInto(from, d, name)
}

func (g guarded) RenameIn(d *folder, from, to string) error {
	if err := g.before("rename", d.at(from), d.at(to)); err != nil {
		return err
	}
	return g.ops.RenameIn(d, from, to)
}

func (g guarded) Exchange(d *folder, a, b string) error {
	if err := g.before("exchange", d.at(a), d.at(b)); err != nil {
		return err
	}
	return g.ops.Exchange(d, a, b)
}

func (g guarded) Open(root, rel string) (*folder, error) {
	if err := g.before("open", root, rel); err != nil {
		return nil, err
	}
	return g.ops.Open(root, rel)
}

func (g guarded) Copy(from string, d *folder, name string) ([]string, error) {
	if err := g.before("copy", from, d.at(name)); err != nil {
		return nil, err
	}
	return g.ops.Copy(from, d, name)
}

func (g guarded) Preserve(from, to string) error {
	if err := g.before("preserve", from, to); err != nil {
		return err
	}
	return g.ops.Preserve(from, to)
}

func (g guarded) Adopt(d *folder, from, to string) error {
	if err := g.before("adopt", d.at(from), d.at(to)); err != nil {
		return err
	}
	return g.ops.Adopt(d, from, to)
}

func (g guarded) Write(d *folder, name string, content []byte) error {
	if err := g.before("write", d.at(name)); err != nil {
		return err
	}
	return g.ops.Write(d, name, content)
}

func (g guarded) Flush(d *folder) error {
	if err := g.before("flush", d.path); err != nil {
		return err
	}
	return g.ops.Flush(d)
}

func (g guarded) Remove(path string) error {
	if err := g.before("remove", path); err != nil {
		return err
	}
	return g.ops.Remove(path)
}
