package wire

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
	PartSize  = 512 << 10 // bytes of a part
	inFlight  = 4         // parts of a file that are under way at once
	maxInline = 128 << 10 // bytes of a file that travels in the message itself
	// maxInlines bounds those of one message together.
	maxInlines = 384 << 10
	// longList is how long a list of files may be in the message itself, in bytes.
	longList = 192 << 10
	// OnePart is how long one part may take.
	OnePart = 4 * time.Second
)

// ErrDamaged says that what arrived is not what was sent.
var ErrDamaged = errors.New("it is not what was sent")

// Sender makes files ready to travel: below one subject, small ones within the message.
type Sender struct {
	Js      jetstream.JetStream
	Subject string // of the ticket, with the direction
	files   int
	inlined int
}

// Tree lists what is below a folder, and sends it. prefix stands before the paths.
func (s *Sender) Tree(ctx context.Context, folder, prefix string) (items []Item, err error) {
	err = filepath.WalkDir(folder, func(path string, d fs.DirEntry, err error) error {
		if err != nil || path == folder {
			return err
		}
		rel, err := filepath.Rel(folder, path)
		if err != nil {
			return err
		}
		item, err := s.Item(ctx, path, prefix+filepath.ToSlash(rel))
		items = append(items, item)
		return err
	})
	return items, err
}

// Item sends one file, or notes a folder. Links and devices do not travel.
func (s *Sender) Item(ctx context.Context, path, name string) (Item, error) {
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
func (s *Sender) content(ctx context.Context, item Item, r io.Reader) (Item, error) {
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
	item.At = s.Subject + "." + strconv.Itoa(s.files)
	size, parts, err := Put(ctx, s.Js, item.At, r)
	if err == nil && size != item.Size {
		err = fmt.Errorf("%s changes while it is sent", item.Path)
	}
	item.Parts, item.SHA = parts, hex.EncodeToString(sum.Sum(nil))
	return item, err
}

// Manifest lists what was sent; a long list is sent, too.
func (s *Sender) Manifest(ctx context.Context, items []Item) (Manifest, error) {
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

// Put sends a file in parts, a few under way at a time. Each part has a subject of its own, and
// a subject holds one message: a part that is sent again, after a change of leader, neither
// doubles nor moves.
func Put(ctx context.Context, js jetstream.JetStream, subject string, r io.Reader) (size int64, parts int, err error) {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	free := make(chan struct{}, inFlight)
	var all sync.WaitGroup
	defer all.Wait()
	for {
		part := make([]byte, PartSize)
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
	return Until(ctx, func(ctx context.Context) error {
		_, err := js.PublishMsg(ctx, &nats.Msg{Subject: subject, Data: data})
		if IsDuplicate(err) {
			return nil
		}
		return err
	})
}

// Until does something again and again until it succeeds, cannot succeed, or the context ends.
func Until(ctx context.Context, do func(context.Context) error) error {
	for wait := 50 * time.Millisecond; ; wait = min(2*wait, time.Second) {
		one, end := context.WithTimeout(ctx, OnePart)
		err := do(one)
		end()
		if err == nil || isFinal(err) {
			return err
		}
		if Pause(ctx, wait) != nil {
			return context.Cause(ctx)
		}
	}
}

// Receiver writes what has travelled below a folder.
type Receiver struct {
	Js     jetstream.JetStream
	Prefix string // with which the subjects of its parts must begin
	Most   int64  // bytes that it takes in all
	files  jetstream.Stream
}

// ErrTooLarge says that more comes than is taken.
var ErrTooLarge = errors.New("it is larger than is taken here")

// Items reads a manifest.
func (r *Receiver) Items(ctx context.Context, m Manifest) ([]Item, error) {
	if m.Long == nil {
		return m.Items, nil
	}
	f, err := os.CreateTemp("", "stilltide-list-*")
	if err != nil {
		return nil, err
	}
	defer os.Remove(f.Name())
	defer f.Close()
	if err := r.Fill(ctx, f, *m.Long); err != nil {
		return nil, err
	}
	var items []Item
	if _, err = f.Seek(0, io.SeekStart); err == nil {
		err = json.NewDecoder(f).Decode(&items)
	}
	return items, err
}

// Into writes items below a folder. A path that leads out of it is refused.
func (r *Receiver) Into(ctx context.Context, folder string, items []Item) error {
	var total int64
	for _, item := range items {
		if total += item.Size; item.Size < 0 || total > r.Most {
			return fmt.Errorf("%s: %w", item.Path, ErrTooLarge)
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

func (r *Receiver) write(ctx context.Context, root *os.Root, item Item) error {
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
	err = r.Fill(ctx, f, item)
	if err == nil {
		err = f.Chmod(fs.FileMode(item.Mode).Perm())
	}
	if err = errors.Join(err, f.Close()); err != nil {
		_ = root.Remove(path)
		return err
	}
	return root.Chtimes(path, time.Unix(0, item.Mod), time.Unix(0, item.Mod))
}

// Fill writes one file's content, and compares it with what was sent.
func (r *Receiver) Fill(ctx context.Context, f *os.File, item Item) error {
	if item.Size > r.Most {
		return ErrTooLarge
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
		return ErrDamaged
	}
	return nil
}

// parts writes a file's parts, a few at a time. A replica that is behind does not have a part
// yet, so it is asked for again: how many there are is known.
func (r *Receiver) parts(ctx context.Context, f *os.File, item Item) error {
	if !strings.HasPrefix(item.At, r.Prefix) || int64(item.Parts) != (item.Size+PartSize-1)/PartSize {
		return ErrDamaged
	}
	if r.files == nil {
		if err := Until(ctx, func(ctx context.Context) (err error) {
			r.files, err = r.Js.Stream(ctx, FileStream)
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

func (r *Receiver) part(ctx context.Context, f *os.File, item Item, n int) error {
	begun := time.Now()
	for wait := 5 * time.Millisecond; ; wait = min(2*wait, time.Second) {
		one, end := context.WithTimeout(ctx, OnePart)
		m, err := r.files.GetLastMsgForSubject(one, item.At+"."+strconv.Itoa(n))
		end()
		if err == nil {
			at := int64(n) * PartSize
			if at+int64(len(m.Data)) > item.Size {
				return ErrDamaged
			}
			_, err = f.WriteAt(m.Data, at)
			return err
		}
		if errors.Is(err, jetstream.ErrMsgNotFound) && time.Since(begun) > missingFor {
			return fmt.Errorf("a part is missing: %w", ErrDamaged)
		}
		if Pause(ctx, wait) != nil {
			return context.Cause(ctx)
		}
	}
}

// IsDuplicate reports whether the engine refused a message because that subject has one.
func IsDuplicate(err error) bool {
	var api *jetstream.APIError
	return errors.As(err, &api) && strings.Contains(api.Description, "maximum messages per subject exceeded")
}

// isFinal reports whether sending the same again cannot help.
func isFinal(err error) bool {
	return errors.Is(err, nats.ErrMaxPayload) || errors.Is(err, nats.ErrPermissionViolation)
}

// SumOf is the SHA-256 of a file, hexadecimal.
func SumOf(path string) (string, error) {
	f, err := os.Open(path)
	if err != nil {
		return "", err
	}
	defer f.Close()
	sum := sha256.New()
	_, err = io.Copy(sum, f)
	return hex.EncodeToString(sum.Sum(nil)), err
}
