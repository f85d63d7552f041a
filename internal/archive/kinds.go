package archive

import (
	"archive/tar"
	"archive/zip"
	"bufio"
	"bytes"
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
)

// kindOf tells the kind of an archive by its content and gives a walk over its entries.
func kindOf(in *os.File, size int64) (func(func(Entry) error) error, error) {
	head := make([]byte, 512)
	n, err := io.ReadFull(in, head)
	if err != nil && !errors.Is(err, io.ErrUnexpectedEOF) && err != io.EOF {
		return nil, err
	}
	head = head[:n]
	if _, err := in.Seek(0, io.SeekStart); err != nil {
		return nil, err
	}
	switch {
	case bytes.HasPrefix(head, []byte("PK\x03\x04")), bytes.HasPrefix(head, []byte("PK\x05\x06")):
		return zipped(in, size)
	case bytes.HasPrefix(head, []byte{0x1f, 0x8b}):
		return gzipped(in)
	case isTar(head):
		return func(each func(Entry) error) error { return tarred(in, each) }, nil
	}
	return nil, errors.New("it is not a zip, tar, tar.gz or gz file")
}

// isTar looks for the magic of POSIX and GNU tar headers at its place.
func isTar(head []byte) bool { return len(head) >= 262 && string(head[257:262]) == "ustar" }

func zipped(in *os.File, size int64) (func(func(Entry) error) error, error) {
	z, err := zip.NewReader(in, size)
	if err != nil && !errors.Is(err, zip.ErrInsecurePath) {
		return nil, err
	}
	return func(each func(Entry) error) error {
		for _, f := range z.File {
			mode := f.Mode()
			if t := mode.Type(); t != 0 && t != fs.ModeDir {
				return fmt.Errorf("the entry %q is a link or a device", f.Name)
			}
			if f.Flags&1 != 0 {
				return fmt.Errorf("the entry %q is encrypted", f.Name)
			}
			if err := each(Entry{Name: f.Name, Mode: mode, Mod: f.Modified, Dir: mode.IsDir(),
				open: f.Open}); err != nil {
				return err
			}
		}
		return nil
	}, nil
}

// gzipped is a tar inside, or one file.
func gzipped(in *os.File) (func(func(Entry) error) error, error) {
	z, err := gzip.NewReader(in)
	if err != nil {
		return nil, err
	}
	peek := bufio.NewReaderSize(z, 512)
	head, err := peek.Peek(512)
	if err != nil && err != io.EOF {
		return nil, err
	}
	if isTar(head) {
		return func(each func(Entry) error) error { return tarred(peek, each) }, nil
	}
	name := filepath.Base(in.Name())
	if stem := strings.TrimSuffix(name, filepath.Ext(name)); strings.EqualFold(filepath.Ext(name), ".gz") &&
		stem != "" {
		name = stem
	} else {
		name += ".out"
	}
	return func(each func(Entry) error) error {
		return each(Entry{Name: name, Mode: 0o644, Mod: z.ModTime,
			open: func() (io.ReadCloser, error) { return io.NopCloser(peek), nil }})
	}, nil
}

func tarred(in io.Reader, each func(Entry) error) error {
	t := tar.NewReader(in)
	for {
		h, err := t.Next()
		switch {
		case err == io.EOF:
			return nil
		case err != nil && !errors.Is(err, tar.ErrInsecurePath):
			return err
		case h.Typeflag != tar.TypeReg && h.Typeflag != tar.TypeDir:
			return fmt.Errorf("the entry %q is a link or a device", h.Name)
		}
		e := Entry{Name: h.Name, Mode: h.FileInfo().Mode(), Mod: h.ModTime, Dir: h.Typeflag == tar.TypeDir,
			open: func() (io.ReadCloser, error) { return io.NopCloser(t), nil }}
		if err := each(e); err != nil {
			return err
		}
	}
}
