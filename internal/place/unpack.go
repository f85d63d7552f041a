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
	"time"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/held"
	"stilltide/internal/naming"
)

// Limits bound what an archive may hold.
type Limits struct {
	Files int     // entries
	Size  int64   // bytes, unpacked
	Ratio float64 // unpacked to packed, beyond the first freeRatio bytes
}

// freeRatio is what may be unpacked whatever the ratio: small files of zeros
// are harmless.
const freeRatio = 10 << 20

// entry is one file of an archive.
type entry struct {
	name string // clean, with forward slashes, below the archive's top
	mode fs.FileMode
	mod  time.Time
	dir  bool
	open func() (io.ReadCloser, error)
}

// Unpack unpacks the source, an archive, into the folder To names: all or
// nothing. It is refused if any entry would leave the folder, is a link or a
// device, stands twice, or goes beyond the limits.
func (p *Placer) Unpack(r Request, limits Limits) ([]Result, error) {
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
	walk, err := archive(in, r.Expect.Size)
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
	u := unpacking{p: p, r: r, d: d, limits: limits, packed: r.Expect.Size, seen: map[string]bool{}}
	u.noteMade(d)
	res, err := u.run(walk)
	err = errors.Join(err, p.system().DiscardIn(d, r.part()))
	if err != nil {
		for i := len(u.made) - 1; i >= 0; i-- {
			held.RemoveMade(u.made[i].path, u.made[i].levels)
		}
		return nil, fmt.Errorf("%s cannot be unpacked: %w", r.Source, err)
	}
	return res, nil
}

// maxForetold bounds the content of an entry that Entries reads, in bytes.
const maxForetold = 16 << 20

// Entries returns the files that an archive holds, for foretelling what unpacking it would
// do; it is refused where unpacking would be. whole is false if an entry is so large that
// only its beginning was read.
func Entries(path string, limits Limits, each func(name string, content []byte, whole bool)) error {
	in, err := os.Open(path)
	if err != nil {
		return err
	}
	defer in.Close()
	info, err := in.Stat()
	if err != nil {
		return err
	}
	walk, err := archive(in, info.Size())
	if err != nil {
		return err
	}
	u := unpacking{limits: limits, packed: info.Size(), seen: map[string]bool{}}
	err = walk(func(e entry) error {
		name, err := u.note(e)
		if err != nil || name == "" || e.dir {
			return err
		}
		from, err := e.open()
		if err != nil {
			return err
		}
		defer from.Close()
		content, err := io.ReadAll(io.LimitReader(&bounded{from, &u}, maxForetold))
		u.files = append(u.files, name)
		each(name, content, len(content) < maxForetold)
		return err
	})
	if err == nil && len(u.files) == 0 {
		err = errors.New("it holds no files")
	}
	return err
}

// unpacking is one archive under way.
type unpacking struct {
	p      *Placer
	r      Request
	d      *held.Folder
	limits Limits
	packed int64
	size   int64           // bytes unpacked so far
	seen   map[string]bool // names, folders too
	files  []string        // in their order
	made   []made          // folders, in their order
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

func (u *unpacking) run(walk func(func(entry) error) error) ([]Result, error) {
	_ = u.p.system().DiscardIn(u.d, u.r.part()) // of an earlier try that was ended by force
	if err := u.d.Root.Mkdir(u.r.part(), 0o700); err != nil {
		return nil, held.Cannot(u.d.Path, "written to", err)
	}
	if err := walk(u.one); err != nil {
		return nil, unfit(err)
	}
	if len(u.files) == 0 {
		return nil, unfit(errors.New("it holds no files"))
	}
	return u.place()
}

// note checks an entry's name and counts it; it gives the clean name, "" for one that
// needs nothing.
func (u *unpacking) note(e entry) (string, error) {
	name, err := inside(e.name)
	if err != nil || name == "." {
		return "", err
	}
	if u.seen[name] && e.dir {
		return "", nil // folders may be named again
	}
	if u.seen[name] {
		return "", fmt.Errorf("two entries are named %q", name)
	}
	u.seen[name] = true
	for up := path.Dir(name); up != "."; up = path.Dir(up) {
		u.seen[up] = true
	}
	if len(u.seen) > u.limits.Files {
		return "", fmt.Errorf("it holds more than %d entries (limits: files)", u.limits.Files)
	}
	return name, nil
}

// one writes one entry below the hidden folder.
func (u *unpacking) one(e entry) error {
	if err := u.d.Ended(); err != nil {
		return err
	}
	name, err := u.note(e)
	if err != nil || name == "" {
		return err
	}
	below := filepath.Join(u.r.part(), filepath.FromSlash(name))
	if e.dir {
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

func (u *unpacking) write(e entry, below string) error {
	if err := u.p.before("unpack", u.d.At(below)); err != nil {
		return err
	}
	in, err := e.open()
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := u.d.Root.OpenFile(below, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, &bounded{in, u})
	if err == nil {
		err = out.Chmod(e.mode.Perm()&^0o022 | 0o600)
	}
	if err = errors.Join(err, out.Sync(), out.Close()); err != nil {
		return err
	}
	if e.mod.IsZero() {
		return nil
	}
	return u.d.Root.Chtimes(below, e.mod, e.mod)
}

func (p *Placer) before(operation string, paths ...string) error {
	if p.Before == nil {
		return nil
	}
	return p.Before(operation, paths...)
}

// bounded counts what is unpacked and ends at the limits.
type bounded struct {
	from io.Reader
	u    *unpacking
}

func (b *bounded) Read(buf []byte) (int, error) {
	n, err := b.from.Read(buf)
	u := b.u
	if u.d != nil && err == nil {
		err = u.d.Ended()
	}
	u.size += int64(n)
	switch {
	case u.size > u.limits.Size:
		return n, fmt.Errorf("it holds more than %d bytes (limits: size)", u.limits.Size)
	case u.size > freeRatio && float64(u.size) > u.limits.Ratio*float64(max(u.packed, 1)):
		return n, fmt.Errorf("it grows to more than %g times its size (limits: ratio)", u.limits.Ratio)
	}
	return n, err
}

// A path of an archive is bounded, so that what is unpacked can be looked through and
// removed again.
const (
	deepestName = 64
	longestName = 4095 - 512 // bytes; PATH_MAX, less the way to the folder
)

// inside cleans an entry's name, which must stay below the archive's top.
func inside(name string) (string, error) {
	refused := func(why string) (string, error) { return "", fmt.Errorf("the entry %q %s", name, why) }
	switch {
	case name == "" || strings.IndexByte(name, 0) >= 0:
		return refused("has no usable name")
	case strings.HasPrefix(name, "/") || len(name) > 1 && name[1] == ':':
		return refused("has an absolute path")
	case strings.Contains(name, `\`):
		return refused("has a backslash in its name, which is a path on some systems")
	}
	if len(name) > longestName || strings.Count(name, "/") >= deepestName {
		return "", fmt.Errorf("the entry %q… lies too deep: a path may have %d parts and %d bytes",
			name[:min(len(name), 40)], deepestName, longestName)
	}
	for _, part := range strings.Split(name, "/") {
		if part == ".." {
			return refused("climbs out of its folder")
		}
		if strings.HasPrefix(part, plan.HiddenPrefix) {
			return refused("has a name that is reserved for the program")
		}
	}
	return path.Clean(name), nil
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
