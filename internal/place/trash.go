package place

import (
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/held"
	"stilltide/internal/naming"
	"stilltide/internal/watchfs"
)

// can is a trash can as the freedesktop.org Trash specification 1.0 has it:
// files/ holds what was thrown away, info/ says where that was.
type can struct {
	folder string
	top    string // paths in info are relative to it; "" for the home trash, where they are absolute
}

// Trash moves the source to the trash: that of its volume, or the home trash
// if it lies on the same one or its own volume allows none.
func (p *Placer) Trash(r Request) (Result, error) {
	var refused error
	for _, c := range cans(r.Source) {
		if err := c.prepare(); err != nil {
			refused = errors.Join(refused, err)
			continue
		}
		return p.throw(c, r)
	}
	return Result{}, fmt.Errorf("%s cannot be moved to the trash: %w", r.Source, refused)
}

// throw puts a file into a can: first the info file, whose name is the claim
// on the file's, then the file.
func (p *Placer) throw(c can, r Request) (Result, error) {
	text := c.info(r.Source, time.Now())
	wanted := filepath.Join(c.folder, "files", naming.Fitting(filepath.Base(r.Source), len(infoEnding)))
	nothing := &naming.Payload{Size: -1} // in the trash, equal files are apart
	for n := range p.Numbers.Tries(wanted, nothing, claimed(wanted)) {
		target := filepath.Join(filepath.Dir(wanted), naming.Numbered(filepath.Base(wanted), n))
		if err := writeClaim(InfoOf(target), text); errors.Is(err, fs.ErrExist) {
			p.Numbers.Note(wanted, n, nothing, nothing)
			continue
		} else if err != nil {
			return Result{}, held.Cannot(InfoOf(target), "written", err)
		}
		move := r
		move.To, move.Same, move.Apart = plan.Spot{Root: filepath.Dir(target), Name: filepath.Base(target)},
			rule.SameFail, true
		res, err := p.Move(move)
		if err == nil && !res.Here {
			return res, nil
		}
		os.Remove(InfoOf(target))
		if !errors.Is(err, job.ErrTaken) { // ErrTaken: a file without an info file has the name
			return res, err
		}
	}
	panic("no number is free for that name")
}

// claimed reports whether a number of a name has its info file.
func claimed(wanted string) func(n int) bool {
	return func(n int) bool {
		_, err := os.Lstat(InfoOf(filepath.Join(filepath.Dir(wanted), naming.Numbered(filepath.Base(wanted), n))))
		return err == nil
	}
}

// infoEnding is that of the Trash specification.
const infoEnding = ".trashinfo"

// InfoOf returns the info file of a file in the trash.
func InfoOf(target string) string {
	can := filepath.Dir(filepath.Dir(target))
	return filepath.Join(can, "info", filepath.Base(target)+infoEnding)
}

func writeClaim(path, text string) error {
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	_, err = f.WriteString(text)
	return errors.Join(err, f.Close())
}

// info is the text of an info file: the path percent-encoded as in a URL, the
// time local and without a zone.
func (c can) info(path string, now time.Time) string {
	if c.top != "" {
		path, _ = filepath.Rel(c.top, path)
	}
	parts := strings.Split(path, "/")
	for i, part := range parts {
		parts[i] = url.PathEscape(part)
	}
	return fmt.Sprintf("[Trash Info]\nPath=%s\nDeletionDate=%s\n", strings.Join(parts, "/"),
		now.Local().Format("2006-01-02T15:04:05"))
}

// prepare makes the can's folders.
func (c can) prepare() error {
	for _, sub := range []string{"files", "info"} {
		if err := os.MkdirAll(filepath.Join(c.folder, sub), 0o700); err != nil {
			return held.CannotMake(c.folder, err)
		}
	}
	if info, err := os.Lstat(c.folder); err != nil || info.Mode()&fs.ModeSymlink != 0 {
		return errors.Join(err, fmt.Errorf("%s is a link", c.folder))
	}
	return nil
}

// cans lists the cans for a file, the right one first.
func cans(path string) []can {
	home := homeTrash()
	top := watchfs.MountPoint(path)
	if top == "" || top == watchfs.MountPoint(nearest(home)) {
		return []can{{folder: home}}
	}
	uid := strconv.Itoa(os.Getuid())
	var list []can
	// An administrator's .Trash counts only if it is no link and has the sticky bit.
	shared := filepath.Join(top, ".Trash")
	if info, err := os.Lstat(shared); err == nil && info.IsDir() && info.Mode()&fs.ModeSticky != 0 {
		list = append(list, can{folder: filepath.Join(shared, uid), top: top})
	}
	return append(list, can{folder: filepath.Join(top, ".Trash-"+uid), top: top}, can{folder: home})
}

func homeTrash() string {
	data := os.Getenv("XDG_DATA_HOME")
	if !filepath.IsAbs(data) {
		home, err := os.UserHomeDir()
		if err != nil {
			home = "/"
		}
		data = filepath.Join(home, ".local", "share")
	}
	return filepath.Join(data, "Trash")
}

// nearest is the path itself or the closest folder above it that is there.
func nearest(path string) string {
	for {
		if _, err := os.Stat(path); err == nil || path == filepath.Dir(path) {
			return path
		}
		path = filepath.Dir(path)
	}
}

// RemoveEmpty removes the folder of a place and those above it, below the place's root, as far
// as they are empty.
func (p *Placer) RemoveEmpty(at plan.Spot) {
	if at.Rel != "" {
		held.RemoveMade(at.Folder(), strings.Count(filepath.ToSlash(at.Rel), "/")+1)
	}
}
