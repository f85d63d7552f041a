package place

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"syscall"

	"stilltide/internal/archive"
	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/held"
	"stilltide/internal/naming"
)

// Unpack unpacks the source, an archive, into the folder To names: all or
// nothing. It is refused if any entry would leave the folder, is a link or a
// device, stands twice, or goes beyond the limits.
func (p *Placer) Unpack(r Request, limits archive.Limits) ([]Result, error) {
	doneSource, err := p.source(&r)
	if err != nil {
		return nil, err
	}
	defer doneSource()
	src, err := p.hold(&r)
	if err != nil {
		return nil, err
	}
	defer src.release()
	in, err := r.from.Read(r.base())
	if err != nil {
		return nil, err
	}
	defer in.Close()
	u := unpacking{p: p, r: r}
	u.in, err = archive.New(in, r.Expect.Size, limits, func() error { return u.d.Ended() })
	if err != nil {
		return nil, fmt.Errorf("%s cannot be unpacked: %w", r.Source, unfit(err))
	}
	if err := r.stage(Staged{Target: filepath.Join(r.To.Folder(), r.To.Name)}); err != nil {
		return nil, err
	}
	d, done, err := p.folder(r.To)
	if err != nil {
		return nil, err
	}
	defer done()
	u.d = d
	u.noteMade(d)
	res, err := u.run()
	err = errors.Join(err, p.system().DiscardIn(d, r.part()))
	if err != nil {
		for i := len(u.made) - 1; i >= 0; i-- {
			held.RemoveMade(u.made[i].path, u.made[i].levels)
		}
		return nil, fmt.Errorf("%s cannot be unpacked: %w", r.Source, err)
	}
	return res, nil
}

// unpacking is one archive under way.
type unpacking struct {
	p     *Placer
	r     Request
	d     *held.Folder
	in    *archive.Reader
	files []string // in their order
	made  []made   // folders, in their order
	lost  []string // what cannot be held of them, each thing once
}

// made is a folder that was made, with some of those above it.
type made struct {
	path   string
	levels int
}

// noteMade remembers what was made to open a folder.
func (u *unpacking) noteMade(d *held.Folder) {
	if d.Made > 0 {
		u.made = append(u.made, made{d.Path, d.Made})
	}
}

func (u *unpacking) run() ([]Result, error) {
	_ = u.p.system().DiscardIn(u.d, u.r.part()) // of an earlier try that was ended by force
	if err := u.d.Root.Mkdir(u.r.part(), 0o700); err != nil {
		return nil, held.Cannot(u.d.Path, "written to", err)
	}
	if err := u.in.Walk(u.one); err != nil {
		return nil, unfit(err)
	}
	return u.place()
}

// one writes one entry below the hidden folder.
func (u *unpacking) one(e archive.Entry) error {
	name := e.Name
	below := filepath.Join(u.r.part(), filepath.FromSlash(name))
	if e.Dir {
		return u.make(name, u.d.Root.MkdirAll(below, 0o700))
	}
	if err := u.make(name, u.d.Root.MkdirAll(filepath.Dir(below), 0o700)); err != nil {
		return err
	}
	u.files = append(u.files, name)
	return u.make(name, u.write(e, below))
}

func (u *unpacking) make(name string, err error) error {
	if err == nil {
		return nil
	}
	if errors.Is(err, fs.ErrExist) || strings.Contains(held.Reason(err).Error(), "not a directory") {
		return fmt.Errorf("%q is a file and a folder at once", name)
	}
	return fmt.Errorf("%q: %w", name, held.Reason(err))
}

func (u *unpacking) write(e archive.Entry, below string) error {
	if err := u.p.before("unpack", u.d.At(below)); err != nil {
		return err
	}
	in, err := u.in.Open(e)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := u.d.Root.OpenFile(below, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	if _, err = io.Copy(out, in); err == nil {
		err = held.Hold(&u.lost, "permissions", out.Chmod(e.Mode.Perm()&^0o022|0o600))
	}
	if err = errors.Join(err, out.Sync(), out.Close()); err != nil {
		return err
	}
	if e.Mod.IsZero() {
		return nil
	}
	return held.Hold(&u.lost, "times", u.d.Root.Chtimes(below, e.Mod, e.Mod))
}

func (p *Placer) before(operation string, paths ...string) error {
	if p.Before == nil {
		return nil
	}
	return p.Before(operation, paths...)
}

// place gives the unpacked files their names, all or none.
func (u *unpacking) place() (done []Result, err error) {
	spots := make([]Request, len(u.files))
	names := make([]choice, len(u.files))
	staged := make([]Staged, len(u.files))
	for i, name := range u.files {
		if spots[i], names[i], staged[i], err = u.plan(name); err != nil {
			return nil, err
		}
		staged[i].Kept = u.keptOf(i)
	}
	made := slices.DeleteFunc(slices.Clone(staged), func(s Staged) bool { return s.Duplicate })
	if u.r.Stage != nil && len(made) > 0 {
		if err := u.r.Stage(made); err != nil {
			return nil, err
		}
	}
	for i := range u.files {
		res := Result{Target: staged[i].Target, Facts: staged[i].Facts, Same: names[i].same}
		if !res.Same {
			if err = u.install(spots[i], names[i], u.files[i], staged[i].Facts); err != nil {
				break
			}
		}
		done = append(done, res)
	}
	if err == nil {
		if len(done) > 0 {
			done[0].Lost = u.lost
		}
		return done, nil
	}
	for i := len(done) - 1; i >= 0; i-- {
		if !done[i].Same {
			undo := Record{Kind: job.Put, Target: done[i].Target, After: done[i].Facts, Kept: u.keptOf(i),
				Replaced: names[i].over}
			err = errors.Join(err, u.p.Undo(undo, u.r.part()+"-u"))
		}
	}
	return nil, err
}

// keptOf is where the content is kept that the i-th file replaces.
func (u *unpacking) keptOf(i int) string { return fmt.Sprintf("%s-%d", u.r.Kept, i+1) }

// plan finds the name of one file.
func (u *unpacking) plan(name string) (r Request, c choice, s Staged, err error) {
	dir, base := path.Split(name)
	r = u.r
	r.To = plan.Spot{Root: u.r.To.Root, Rel: filepath.Join(u.r.To.Rel, filepath.FromSlash(dir)), Name: base}
	part := filepath.Join(u.r.part(), filepath.FromSlash(name))
	info, err := u.d.Root.Lstat(part)
	if err != nil {
		return r, c, s, err
	}
	d, done, err := u.p.folder(r.To)
	if err != nil {
		return r, c, s, err
	}
	defer done()
	u.noteMade(d)
	r.Source = "" // what is unpacked is not the archive, whatever its name is
	c, err = u.p.choose(&r, d, &naming.Payload{Path: u.d.At(part), Size: info.Size()})
	if err != nil {
		return r, c, s, err
	}
	made := d.Made
	if u.d.Made > 0 { // all below it was made, too
		made = u.d.Made + strings.Count(dir, "/")
	}
	facts, err := u.p.system().StatIn(u.d, part)
	return r, c, Staged{Target: d.At(c.name), Facts: facts, Replaced: c.over, Duplicate: c.same, Made: made}, err
}

// install gives one file its name.
func (u *unpacking) install(r Request, c choice, name string, facts file.Facts) error {
	d, done, err := u.p.folder(r.To)
	if err != nil {
		return err
	}
	defer done()
	part := filepath.Join(u.r.part(), filepath.FromSlash(name))
	sys := u.p.system()
	if !c.over {
		if err := sys.Rename(u.d, part, d, c.name); err != nil {
			return held.Cannot(d.At(c.name), "made", err)
		}
		if err := sys.Flush(d); err != nil {
			return errors.Join(held.Cannot(d.Path, "flushed", err), sys.DiscardIn(d, c.name))
		}
		return nil
	}
	hidden := r.part() + "-u"
	if err := sys.Rename(u.d, part, d, hidden); err != nil {
		return held.Cannot(d.At(c.name), "made", err)
	}
	for i, f := range u.files {
		if f == name {
			return errors.Join(u.p.swap(d, hidden, c, u.keptOf(i)), sys.DiscardIn(d, hidden))
		}
	}
	return nil
}

// errUnfit marks what is wrong with an archive itself: trying again cannot help.
type errUnfit struct{ error }

func (e errUnfit) Unwrap() error { return e.error }

// unfit marks an error, if it is not one of the system's.
func unfit(err error) error {
	var system syscall.Errno
	if errors.As(err, &system) || errors.Is(err, job.ErrStopped) {
		return err
	}
	return errUnfit{err}
}
