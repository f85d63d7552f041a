package lend

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"stilltide/internal/wire"
)

// kept are the files that have travelled along with commands, by content, so that each comes
// once. Those that were not used for longest go first when there are too many bytes.
type kept struct {
	folder string
	most   int64
	mu     sync.Mutex
}

func openKept(folder string, most int64) (*kept, error) {
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return nil, fmt.Errorf("the folder for files that travel along cannot be made: %w", err)
	}
	return &kept{folder: folder, most: most}, nil
}

// put writes a file with a content, which is fetched if it is not kept.
func (k *kept) put(ctx context.Context, from *wire.Receiver, item wire.Item, to string) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	if len(item.SHA) != 64 || !filepath.IsLocal(item.SHA) {
		return wire.ErrDamaged
	}
	path := filepath.Join(k.folder, item.SHA)
	if err := os.MkdirAll(filepath.Dir(to), 0o700); err != nil {
		return err
	}
	if !k.has(path, item) {
		if err := k.fetch(ctx, from, item, path); err != nil {
			return err
		}
	}
	now := time.Now()
	_ = os.Chtimes(path, now, now) // when it was used
	return copyFile(path, to, fs.FileMode(item.Mode).Perm())
}

// has reports whether a content is kept, and unharmed.
func (k *kept) has(path string, item wire.Item) bool {
	sum, err := wire.SumOf(path)
	return err == nil && sum == item.SHA
}

func (k *kept) fetch(ctx context.Context, from *wire.Receiver, item wire.Item, path string) error {
	f, err := os.CreateTemp(k.folder, ".part-*")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	err = from.Fill(ctx, f, item)
	if err = errors.Join(err, f.Close()); err != nil {
		return err
	}
	if err := os.Rename(f.Name(), path); err != nil {
		return err
	}
	return k.trim(item.SHA)
}

// trim removes those that were not used for longest, but not the newest.
func (k *kept) trim(newest string) error {
	entries, err := os.ReadDir(k.folder)
	if err != nil {
		return err
	}
	var total int64
	var infos []fs.FileInfo
	for _, e := range entries {
		if info, err := e.Info(); err == nil {
			infos = append(infos, info)
			total += info.Size()
		}
	}
	slices.SortFunc(infos, func(a, b fs.FileInfo) int { return a.ModTime().Compare(b.ModTime()) })
	for _, info := range infos {
		if total <= k.most {
			break
		}
		if info.Name() != newest && os.Remove(filepath.Join(k.folder, info.Name())) == nil {
			total -= info.Size()
		}
	}
	return nil
}

// copyFile copies a file, so that a command can change its own.
func copyFile(from, to string, mode fs.FileMode) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, mode)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	return errors.Join(err, out.Chmod(mode), out.Close())
}
