//go:build linux

package place

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"stilltide/internal/archive"
	"stilltide/internal/watchfs"
)

var roomy = archive.Limits{Files: 100, Size: 1 << 30, Ratio: 300}

func writeZip(t *testing.T, path string, files map[string]string) {
	t.Helper()
	var buf bytes.Buffer
	z := zip.NewWriter(&buf)
	for _, name := range sortedKeys(files) {
		w, err := z.CreateHeader(&zip.FileHeader{Name: name, Method: zip.Deflate,
			Modified: time.Date(2031, 4, 2, 12, 0, 0, 0, time.UTC)})
		require.NoError(t, err)
		_, err = w.Write([]byte(files[name]))
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	write(t, path, buf.String())
}

func sortedKeys(m map[string]string) []string {
	var keys []string
	for k := range m {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	return keys
}

// writeTar makes a tar of the given headers; the body of each is its name.
func writeTar(t *testing.T, path string, zipped bool, headers ...tar.Header) {
	t.Helper()
	var buf bytes.Buffer
	w := tar.NewWriter(&buf)
	for _, h := range headers {
		body := ""
		if h.Typeflag == tar.TypeReg {
			body = h.Name
		}
		h.Size, h.Mode = int64(len(body)), 0o644
		require.NoError(t, w.WriteHeader(&h))
		_, err := w.Write([]byte(body))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	content := buf.Bytes()
	if zipped {
		content = gzipOf(t, content)
	}
	write(t, path, string(content))
}

func gzipOf(t *testing.T, content []byte) []byte {
	var buf bytes.Buffer
	z := gzip.NewWriter(&buf)
	_, err := z.Write(content)
	require.NoError(t, err)
	require.NoError(t, z.Close())
	return buf.Bytes()
}

func unpack(t *testing.T, dir string, limits archive.Limits) error {
	f, err := watchfs.Stat(filepath.Join(dir, "in/a.txt"))
	require.NoError(t, err)
	var p Placer
	_, err = p.Unpack(request(dir, f), limits)
	return err
}

func TestUnpack(t *testing.T) {
	for name, make := range map[string]func(path string){
		"zip": func(path string) { writeZip(t, path, map[string]string{"one": "one", "sub/two": "sub/two"}) },
		"tar": func(path string) {
			writeTar(t, path, false, tar.Header{Name: "one", Typeflag: tar.TypeReg},
				tar.Header{Name: "sub/", Typeflag: tar.TypeDir},
				tar.Header{Name: "./sub/two", Typeflag: tar.TypeReg})
		},
		"tar.gz": func(path string) {
			writeTar(t, path, true, tar.Header{Name: "one", Typeflag: tar.TypeReg},
				tar.Header{Name: "sub/two", Typeflag: tar.TypeReg})
		},
	} {
		dir := t.TempDir()
		make(filepath.Join(dir, "in/a.txt"))
		require.NoError(t, unpack(t, dir, roomy), name)
		files := all(t, dir)
		delete(files, "in/a.txt")
		require.Len(t, files, 2, name)
		require.Equal(t, "one", files["out/deep/one"], name)
		require.True(t, strings.HasSuffix(files["out/deep/sub/two"], "sub/two"), name)
		require.NoError(t, unpack(t, dir, roomy), "the same content is not stored twice")
		require.Len(t, all(t, dir), 3, name)
	}
}

func TestUnpackOneFile(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "levels.csv.gz")
	write(t, path, string(gzipOf(t, []byte("time,level"))))
	f, err := watchfs.Stat(path)
	require.NoError(t, err)
	r := request(dir, f)
	r.Source = path
	var p Placer
	_, err = p.Unpack(r, roomy)
	require.NoError(t, err)
	require.Equal(t, "time,level", read(t, filepath.Join(dir, "out/deep/levels.csv")))
}

// A hostile archive is refused with one sentence, and nothing is written.
func TestHostileArchives(t *testing.T) {
	zeros := strings.Repeat("\x00", 12<<20)
	reg := func(name string) tar.Header { return tar.Header{Name: name, Typeflag: tar.TypeReg} }
	for what, c := range map[string]struct {
		make func(path string)
		says string
	}{
		"climbing zip": {func(p string) { writeZip(t, p, map[string]string{"good": "1", "../evil": "x"}) },
			"climbs out"},
		"climbing deep": {func(p string) { writeZip(t, p, map[string]string{"a/../../evil": "x"}) }, "climbs out"},
		"climbing tar":  {func(p string) { writeTar(t, p, false, reg("good"), reg("../../evil")) }, "climbs out"},
		"absolute":      {func(p string) { writeZip(t, p, map[string]string{"/tmp/evil": "x"}) }, "absolute path"},
		"drive":         {func(p string) { writeZip(t, p, map[string]string{"C:evil": "x"}) }, "absolute path"},
		"backslash":     {func(p string) { writeZip(t, p, map[string]string{`..\evil`: "x"}) }, "backslash"},
		"link": {func(p string) {
			writeTar(t, p, true, tar.Header{Name: "l", Typeflag: tar.TypeSymlink, Linkname: "/etc"},
				reg("l/passwd"))
		}, "link or a device"},
		"hard link": {func(p string) {
			writeTar(t, p, false, tar.Header{Name: "l", Typeflag: tar.TypeLink, Linkname: "/etc/passwd"})
		}, "link or a device"},
		"device": {func(p string) {
			writeTar(t, p, false,
				tar.Header{Name: "d", Typeflag: tar.TypeChar})
		}, "link or a device"},
		"pipe": {func(p string) {
			writeTar(t, p, false,
				tar.Header{Name: "f", Typeflag: tar.TypeFifo})
		}, "link or a device"},
		"twice":             {func(p string) { writeTar(t, p, false, reg("same"), reg("./same")) }, "two entries"},
		"file and folder":   {func(p string) { writeTar(t, p, false, reg("x"), reg("x/y")) }, "file and a folder"},
		"folder, then file": {func(p string) { writeTar(t, p, false, reg("x/y"), reg("x")) }, "two entries"},
		"our own name": {func(p string) { writeZip(t, p, map[string]string{".stilltide-abc": "x"}) },
			"is reserved for the program"},
		"bomb": {func(p string) { writeZip(t, p, map[string]string{"zeros": zeros}) },
			"limits: ratio"},
		"gzip bomb":      {func(p string) { write(t, p, string(gzipOf(t, []byte(zeros)))) }, "limits: ratio"},
		"not an archive": {func(p string) { write(t, p, "hello") }, "not a zip, tar"},
		"empty":          {func(p string) { writeZip(t, p, nil) }, "holds no files"},
		"cut off":        {func(p string) { writeTar(t, p, true, reg("a")); cutFile(t, p) }, "unexpected EOF"},
		"many": {func(p string) {
			files := map[string]string{}
			for i := range 101 {
				files[fmt.Sprint("f", i)] = "x"
			}
			writeZip(t, p, files)
		}, "limits: files"},
	} {
		dir := t.TempDir()
		c.make(filepath.Join(dir, "in/a.txt"))
		err := unpack(t, dir, roomy)
		require.ErrorContains(t, err, c.says, what)
		require.ErrorContains(t, err, filepath.Join(dir, "in/a.txt")+" cannot be unpacked: ", what)
		require.Len(t, all(t, dir), 1, "%s: nothing is written", what)
		require.NoFileExists(t, filepath.Join(dir, "evil"), what)
	}
	dir := t.TempDir()
	writeZip(t, filepath.Join(dir, "in/a.txt"), map[string]string{"a": strings.Repeat("abc", 1000)})
	require.ErrorContains(t, unpack(t, dir, archive.Limits{Files: 10, Size: 2000, Ratio: 300}), "limits: size")
}

func cutFile(t *testing.T, path string) {
	info, err := os.Stat(path)
	require.NoError(t, err)
	require.NoError(t, os.Truncate(path, info.Size()/2))
}
