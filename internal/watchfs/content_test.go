package watchfs

import (
	"encoding/binary"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

type byteOrder interface {
	binary.ByteOrder
	binary.AppendByteOrder
}

// picture makes the start of a JPEG file whose Exif data say when it was taken.
func picture(order byteOrder, mark, taken string) []byte {
	tiff := []byte(mark)
	u16 := func(n uint16) { tiff = order.AppendUint16(tiff, n) }
	u32 := func(n uint32) { tiff = order.AppendUint32(tiff, n) }
	entry := func(tag, kind uint16, count, value uint32) { u16(tag); u16(kind); u32(count); u32(value) }
	u32(8)                   // the first folder
	u16(1)                   // has one entry:
	entry(0x8769, 4, 1, 26)  // where the Exif folder is
	u32(0)                   // no further folder
	u16(1)                   // at 26
	entry(0x9003, 2, 20, 44) // DateTimeOriginal
	u32(0)
	tiff = append(tiff, taken+"\x00"...) // at 44
	return append([]byte("\xff\xd8\xff\xe1\x00\x40Exif\x00\x00"), tiff...)
}

func TestShot(t *testing.T) {
	path := filepath.Join(t.TempDir(), "p.jpg")
	write := func(b []byte) { require.NoError(t, os.WriteFile(path, b, 0o666)) }
	want := time.Date(2031, 4, 2, 14, 20, 5, 0, time.Local)
	for mark, order := range map[string]byteOrder{"II*\x00": binary.LittleEndian, "MM\x00*": binary.BigEndian} {
		whole := picture(order, mark, "2031:04:02 14:20:05")
		write(whole)
		at, ok := Shot(path)
		require.True(t, ok, mark)
		require.True(t, at.Equal(want), at)
		for cut := range whole { // no prefix of it does harm
			write(whole[:cut])
			_, ok := Shot(path)
			require.False(t, ok && cut < len(whole)-2, cut)
		}
		write(picture(order, mark, "    :  :     :  :  "))
		_, ok = Shot(path)
		require.False(t, ok, "a camera without a clock")
	}
	write([]byte("no picture"))
	_, ok := Shot(path)
	require.False(t, ok)
}

func TestMediaType(t *testing.T) {
	dir := t.TempDir()
	for name, tt := range map[string]struct{ content, want string }{
		"a.png":     {"\x89PNG\r\n\x1a\n0000IHDR", "image/png"},
		"png.txt":   {"\x89PNG\r\n\x1a\n0000IHDR", "image/png"}, // content comes first
		"table.csv": {"plain words", "text/csv"},                // content says no more than text
		"unknown.q": {"\x00\x01\x02", "application/octet-stream"},
	} {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, []byte(tt.content), 0o666))
		require.Equal(t, tt.want, MediaType(path), name)
	}
	require.Equal(t, "image/png", MediaTypeOfName("not-there.PNG"))
}
