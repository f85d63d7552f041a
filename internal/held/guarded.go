package held

import "stilltide/internal/core/file"

// Guarded asks before each operation.
type Guarded struct {
	Ops
	Before func(operation string, paths ...string) error
}

func (g Guarded) Hold(d *Folder, name string) (File, error) {
	if err := g.Before("hold", d.At(name)); err != nil {
		return nil, err
	}
	return g.Ops.Hold(d, name)
}

func (g Guarded) Stat(path string) (file.Facts, error) {
	if err := g.Before("stat", path); err != nil {
		return file.Facts{}, err
	}
	return g.Ops.Stat(path)
}

func (g Guarded) StatIn(d *Folder, name string) (file.Facts, error) {
	if err := g.Before("stat", d.At(name)); err != nil {
		return file.Facts{}, err
	}
	return g.Ops.StatIn(d, name)
}

func (g Guarded) Rename(from *Folder, name string, d *Folder, as string) error {
	if err := g.Before("rename", from.At(name), d.At(as)); err != nil {
		return err
	}
	return g.Ops.Rename(from, name, d, as)
}

func (g Guarded) Exchange(d *Folder, a, b string) error {
	if err := g.Before("exchange", d.At(a), d.At(b)); err != nil {
		return err
	}
	return g.Ops.Exchange(d, a, b)
}

func (g Guarded) Open(root, rel string) (*Folder, error) {
	if err := g.Before("open", root, rel); err != nil {
		return nil, err
	}
	return g.Ops.Open(root, rel)
}

func (g Guarded) OpenSource(root, rel string) (*Folder, error) {
	if err := g.Before("open", root, rel); err != nil {
		return nil, err
	}
	return g.Ops.OpenSource(root, rel)
}

func (g Guarded) Copy(from *Folder, name string, d *Folder, as string, whole bool) ([]string, error) {
	if err := g.Before("copy", from.At(name), d.At(as)); err != nil {
		return nil, err
	}
	return g.Ops.Copy(from, name, d, as, whole)
}

func (g Guarded) Preserve(from, to string) error {
	if err := g.Before("preserve", from, to); err != nil {
		return err
	}
	return g.Ops.Preserve(from, to)
}

func (g Guarded) Adopt(d *Folder, from, to string) error {
	if err := g.Before("adopt", d.At(from), d.At(to)); err != nil {
		return err
	}
	return g.Ops.Adopt(d, from, to)
}

func (g Guarded) Dress(d *Folder, name string, f file.Facts) error {
	if err := g.Before("dress", d.At(name)); err != nil {
		return err
	}
	return g.Ops.Dress(d, name, f)
}

func (g Guarded) Write(d *Folder, name string, content []byte) error {
	if err := g.Before("write", d.At(name)); err != nil {
		return err
	}
	return g.Ops.Write(d, name, content)
}

func (g Guarded) Link(from *Folder, name string, d *Folder, as string) error {
	if err := g.Before("link", from.At(name), d.At(as)); err != nil {
		return err
	}
	return g.Ops.Link(from, name, d, as)
}

func (g Guarded) Symlink(to string, d *Folder, name string) error {
	if err := g.Before("link", to, d.At(name)); err != nil {
		return err
	}
	return g.Ops.Symlink(to, d, name)
}

func (g Guarded) Flush(d *Folder) error {
	if err := g.Before("flush", d.Path); err != nil {
		return err
	}
	return g.Ops.Flush(d)
}

func (g Guarded) Remove(d *Folder, name string) error {
	if err := g.Before("remove", d.At(name)); err != nil {
		return err
	}
	return g.Ops.Remove(d, name)
}

func (g Guarded) RemoveAll(d *Folder, name string) error {
	if err := g.Before("remove", d.At(name)); err != nil {
		return err
	}
	return g.Ops.RemoveAll(d, name)
}
