package place

import "stilltide/internal/core/file"

// guarded asks before each operation.
type guarded struct {
	ops
	before func(operation string, paths ...string) error
}

func (g guarded) Hold(d *folder, name string) (heldFile, error) {
	if err := g.before("hold", d.at(name)); err != nil {
		return nil, err
	}
	return g.ops.Hold(d, name)
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

func (g guarded) Rename(from *folder, name string, d *folder, as string) error {
	if err := g.before("rename", from.at(name), d.at(as)); err != nil {
		return err
	}
	return g.ops.Rename(from, name, d, as)
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

func (g guarded) OpenSource(root, rel string) (*folder, error) {
	if err := g.before("open", root, rel); err != nil {
		return nil, err
	}
	return g.ops.OpenSource(root, rel)
}

func (g guarded) Copy(from *folder, name string, d *folder, as string, whole bool) ([]string, error) {
	if err := g.before("copy", from.at(name), d.at(as)); err != nil {
		return nil, err
	}
	return g.ops.Copy(from, name, d, as, whole)
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

func (g guarded) Dress(d *folder, name string, f file.Facts) error {
	if err := g.before("dress", d.at(name)); err != nil {
		return err
	}
	return g.ops.Dress(d, name, f)
}

func (g guarded) Write(d *folder, name string, content []byte) error {
	if err := g.before("write", d.at(name)); err != nil {
		return err
	}
	return g.ops.Write(d, name, content)
}

func (g guarded) Link(from *folder, name string, d *folder, as string) error {
	if err := g.before("link", from.at(name), d.at(as)); err != nil {
		return err
	}
	return g.ops.Link(from, name, d, as)
}

func (g guarded) Symlink(to string, d *folder, name string) error {
	if err := g.before("link", to, d.at(name)); err != nil {
		return err
	}
	return g.ops.Symlink(to, d, name)
}

func (g guarded) Flush(d *folder) error {
	if err := g.before("flush", d.path); err != nil {
		return err
	}
	return g.ops.Flush(d)
}

func (g guarded) Remove(d *folder, name string) error {
	if err := g.before("remove", d.at(name)); err != nil {
		return err
	}
	return g.ops.Remove(d, name)
}

func (g guarded) RemoveAll(d *folder, name string) error {
	if err := g.before("remove", d.at(name)); err != nil {
		return err
	}
	return g.ops.RemoveAll(d, name)
}
