package fleet

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"
)

const (
	partSize  = 512 << 10 // bytes of a part
	inFlight  = 4         // parts of a file that are under way at once
	maxInline = 128 << 10 // bytes of a file that travels in the message itself
	// maxInlines bounds those of one message together.
	maxInlines = 384 << 10
	// longList is how long a list of files may be in the message itself, in bytes.
	longList = 192 << 10
	// onePart is how long one part may take.
	onePart = 4 * time.Second
)

// errDamaged says that what arrived is not what was sent.
var errDamaged = errors.New("it is not what was sent")

// sender makes files ready to travel: below one subject, small ones within the message.
type sender struct {
	js      jetstream.JetStream
	subject string // of the ticket, with the direction
	files   int
	inlined int
}

// tree lists what is below a folder, and sends it. prefix stands before the paths.
func (s *sender) tree(ctx context.Context, folder, prefix string) (items []Item, err error) {
	err = filepath.WalkDir(folder, func(path string, d fs.DirEntry, err error) error {
		if err != nil || path == folder {
			return err
		}
		rel, err := filepath.Rel(folder, path)
		if err != nil {
			return err
		}
		item, err := s.item(ctx, path, prefix+filepath.ToSlash(rel))
		items = append(items, item)
		return err
	})
	return items, err
}

// item sends one file, or notes a folder. Links and devices do not travel.
func (s *sender) item(ctx context.Context, path, name string) (Item, error) {
	info, err := os.Lstat(path)
	if err != nil {
		return Item{}, err
	}
	item := Item{Path: name, Mode: uint32(info.Mode().Perm()), Mod: info.ModTime().UnixNano()}
	if info.IsDir() {
		item.Folder = true
		return item, nil
	}
	if !info.Mode().IsRegular() {
		return item, fmt.Errorf("%s is no plain file, so it cannot travel to another machine", path)
	}
	f, err := os.Open(path)
	if err != nil {
		return item, err
	}
	defer f.Close()
	item.Size = info.Size()
	return s.content(ctx, item, f)
}

// content sends what a file holds.
func (s *sender) content(ctx context.Context, item Item, r io.Reader) (Item, error) {
	sum := sha256.New()
	r = io.TeeReader(r, sum)
	if item.Size <= maxInline && s.inlined+int(item.Size) <= maxInlines {
		text, err := io.ReadAll(io.LimitReader(r, maxInline+1))
		if err != nil {
			return item, err
		}
		if int64(len(text)) != item.Size {
			return item, fmt.Errorf("%s changes while it is sent", item.Path)
		}
		s.inlined += len(text)
		item.Inline, item.SHA = text, hex.EncodeToString(sum.Sum(nil))
		return item, nil
	}
	s.files++
	item.At = s.subject + "." + strconv.Itoa(s.files)
	size, parts, err := put(ctx, s.js, item.At, r)
	if err == nil && size != item.Size {
		err = fmt.Errorf("%s changes while it is sent", item.Path)
	}
	item.Parts, item.SHA = parts, hex.EncodeToString(sum.Sum(nil))
	return item, err
}

// manifest lists what was sent; a long list is sent, too.
func (s *sender) manifest(ctx context.Context, items []Item) (Manifest, error) {
	text, err := json.Marshal(items)
	if err != nil {
		return Manifest{}, err
	}
	if len(text) <= longList+s.inlined*4/3 {
		return Manifest{Items: items}, nil
	}
	s.inlined = maxInlines // the list is no small file
	long, err := s.content(ctx, Item{Path: "list", Size: int64(len(text))}, bytes.NewReader(text))
	return Manifest{Long: &long}, err
}

// put sends a file in parts, a few under way at a time. Each part has a subject of its own, and
// a subject holds one message: a part that is sent again, after a change of leader, neither
// doubles nor moves.
func put(ctx context.Context, js jetstream.JetStream, subject string, r io.Reader) (size int64, parts int, err error) {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	free := make(chan struct{}, inFlight)
	var all sync.WaitGroup
	defer all.Wait()
	for {
		part := make([]byte, partSize)
		n, readErr := io.ReadFull(r, part)
		if n > 0 {
			select {
			case free <- struct{}{}:
			case <-ctx.Done():
				return size, parts, context.Cause(ctx)
			}
			number := parts
			size, parts = size+int64(n), parts+1
			all.Go(func() {
				defer func() { <-free }()
				if err := putPart(ctx, js, subject+"."+strconv.Itoa(number), part[:n]); err != nil {
					cancel(err)
				}
			})
		}
		if readErr == nil {
			continue
		}
		if all.Wait(); context.Cause(ctx) != nil {
			return size, parts, context.Cause(ctx)
		}
		if errors.Is(readErr, io.EOF) || errors.Is(readErr, io.ErrUnexpectedEOF) {
			readErr = nil
		}
		return size, parts, readErr
	}
}

// putPart sends one part, again and again until that is confirmed.
func putPart(ctx context.Context, js jetstream.JetStream, subject string, data []byte) error {
	return until(ctx, func(ctx context.Context) error {
		_, err := js.PublishMsg(ctx, &nats.Msg{Subject: subject, Data: data})
		if isDuplicate(err) {
			return nil
		}
		return err
	})
}

// until does something again and again until it succeeds, cannot succeed, or the context ends.
func until(ctx context.Context, do func(context.Context) error) error {
	for wait := 50 * time.Millisecond; ; wait = min(2*wait, time.Second) {
		one, end := context.WithTimeout(ctx, onePart)
		err := do(one)
		end()
		if err == nil || isFinal(err) {
			return err
		}
		if pause(ctx, wait) != nil {
			return context.Cause(ctx)
		}
	}
}

// receiver writes what has travelled below a folder.
type receiver struct {
	js     jetstream.JetStream
	prefix string // with which the subjects of its parts must begin
	most   int64  // bytes that it takes in all
	files  jetstream.Stream
}

// errTooLarge says that more comes than is taken.
var errTooLarge = errors.New("it is larger than is taken here")

// items reads a manifest.
func (r *receiver) items(ctx context.Context, m Manifest) ([]Item, error) {
	if m.Long == nil {
		return m.Items, nil
	}
	f, err := os.CreateTemp("", "stilltide-list-*")
	if err != nil {
		return nil, err
	}
	defer os.Remove(f.Name())
	defer f.Close()
	if err := r.fill(ctx, f, *m.Long); err != nil {
		return nil, err
	}
	var items []Item
	if _, err = f.Seek(0, io.SeekStart); err == nil {
		err = json.NewDecoder(f).Decode(&items)
	}
	return items, err
}

// into writes items below a folder. A path that leads out of it is refused.
func (r *receiver) into(ctx context.Context, folder string, items []Item) error {
	var total int64
	for _, item := range items {
		if total += item.Size; item.Size < 0 || total > r.most {
			return fmt.Errorf("%s: %w", item.Path, errTooLarge)
		}
	}
	root, err := os.OpenRoot(folder) // no path and no link leads out of it
	if err != nil {
		return err
	}
	defer root.Close()
	for _, item := range items {
		if err := r.write(ctx, root, item); err != nil {
			return fmt.Errorf("%s: %w", item.Path, err)
		}
	}
	for _, item := range slices.Backward(items) { // a folder's own time, after what is in it
		if at := time.Unix(0, item.Mod); item.Folder {
			_ = root.Chmod(filepath.FromSlash(item.Path), fs.FileMode(item.Mode).Perm()|0o700)
			_ = root.Chtimes(filepath.FromSlash(item.Path), at, at)
		}
	}
	return nil
}

func (r *receiver) write(ctx context.Context, root *os.Root, item Item) error {
	path := filepath.FromSlash(item.Path)
	if !filepath.IsLocal(path) {
		return errors.New("its path leads out of the folder")
	}
	if item.Folder {
		return root.MkdirAll(path, 0o700)
	}
	if err := root.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	if err := root.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	f, err := root.OpenFile(path, os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	err = r.fill(ctx, f, item)
	if err == nil {
		err = f.Chmod(fs.FileMode(item.Mode).Perm())
	}
	if err = errors.Join(err, f.Close()); err != nil {
		_ = root.Remove(path)
		return err
	}
	return root.Chtimes(path, time.Unix(0, item.Mod), time.Unix(0, item.Mod))
}

// fill writes one file's content, and compares it with what was sent.
func (r *receiver) fill(ctx context.Context, f *os.File, item Item) error {
	if item.Size > r.most {
		return errTooLarge
	}
	if item.At == "" {
		if _, err := f.Write(item.Inline); err != nil {
			return err
		}
	} else if err := r.parts(ctx, f, item); err != nil {
		return err
	}
	sum := sha256.New()
	n, err := io.Copy(sum, io.NewSectionReader(f, 0, item.Size+1))
	if err != nil {
		return err
	}
	if n != item.Size || hex.EncodeToString(sum.Sum(nil)) != item.SHA {
		return errDamaged
	}
	return nil
}

// parts writes a file's parts, a few at a time. A replica that is behind does not have a part
// yet, so it is asked for again: how many there are is known.
func (r *receiver) parts(ctx context.Context, f *os.File, item Item) error {
	if !strings.HasPrefix(item.At, r.prefix) || int64(item.Parts) != (item.Size+partSize-1)/partSize {
		return errDamaged
	}
	if r.files == nil {
		if err := until(ctx, func(ctx context.Context) (err error) {
			r.files, err = r.js.Stream(ctx, fileStream)
			return err
		}); err != nil {
			return err
		}
	}
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	numbers := make(chan int)
	var all sync.WaitGroup
	for range min(inFlight, item.Parts) {
		all.Go(func() {
			for n := range numbers {
				if err := r.part(ctx, f, item, n); err != nil {
					cancel(err)
				}
			}
		})
	}
	for n := range item.Parts {
		select {
		case numbers <- n:
		case <-ctx.Done():
		}
	}
	close(numbers)
	all.Wait()
	return context.Cause(ctx)
}

// missingFor is how long a part may be missing until the file counts as damaged.
const missingFor = 20 * time.Second

func (r *receiver) part(ctx context.Context, f *os.File, item Item, n int) error {
	begun := time.Now()
	for wait := 5 * time.Millisecond; ; wait = min(2*wait, time.Second) {
		one, end := context.WithTimeout(ctx, onePart)
		m, err := r.files.GetLastMsgForSubject(one, item.At+"."+strconv.Itoa(n))
		end()
		if err == nil {
			at := int64(n) * partSize
			if at+int64(len(m.Data)) > item.Size {
				return errDamaged
			}
			_, err = f.WriteAt(m.Data, at)
			return err
		}
		if errors.Is(err, jetstream.ErrMsgNotFound) && time.Since(begun) > missingFor {
			return fmt.Errorf("a part is missing: %w", errDamaged)
		}
		if pause(ctx, wait) != nil {
			return context.Cause(ctx)
		}
	}
}

// isDuplicate reports whether the engine refused a message because that subject has one.
func isDuplicate(err error) bool {
	var api *jetstream.APIError
	return errors.As(err, &api) && strings.Contains(api.Description, "maximum messages per subject exceeded")
}

// isFinal reports whether sending the same again cannot help.
func isFinal(err error) bool {
	return errors.Is(err, nats.ErrMaxPayload) || errors.Is(err, nats.ErrPermissionViolation)
}

// sumOf is the SHA-256 of a file, hexadecimal.
func sumOf(path string) (string, error) {
	f, err := os.Open(path)
	if err != nil {
		return "", err
	}
	defer f.Close()
	sum := sha256.New()
	_, err = io.Copy(sum, f)
	return hex.EncodeToString(sum.Sum(nil)), err
}
