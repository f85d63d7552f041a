package content

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
	return append([]byte("\xff\xd8\xff\xe1\x00\x48Exif\x00\x00"), tiff...)
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

// A raw picture that holds another, a picture without any wrapping, and films.
func TestShotOfOtherKinds(t *testing.T) {
	path := filepath.Join(t.TempDir(), "p")
	shot := func(b []byte) (time.Time, bool) {
		require.NoError(t, os.WriteFile(path, b, 0o666))
		return Shot(path)
	}
	want := time.Date(2031, 4, 2, 14, 20, 5, 0, time.Local)
	inside := picture(binary.BigEndian, "MM\x00*", "2031:04:02 14:20:05")
	raf := append([]byte("FUJIFILMCCD-RAW 0201"), make([]byte, 80)...)
	binary.BigEndian.PutUint32(raf[84:], uint32(len(raf)))
	binary.BigEndian.PutUint32(raf[88:], uint32(len(inside)))
	for name, b := range map[string][]byte{"raf": append(raf, inside...), "tiff": inside[12:]} {
		at, ok := shot(b)
		require.True(t, ok, name)
		require.True(t, at.Equal(want), name)
	}
	box := func(name string, content ...byte) []byte {
		b := binary.BigEndian.AppendUint32(nil, uint32(8+len(content)))
		return append(append(b, name...), content...)
	}
	seconds := uint64(want.Sub(time.Date(1904, 1, 1, 0, 0, 0, 0, time.UTC)) / time.Second)
	short := box("moov", box("mvhd", binary.BigEndian.AppendUint32(make([]byte, 4, 100), uint32(seconds))...)...)
	wide := box("moov", append(box("iods", 0), box("mvhd", binary.BigEndian.AppendUint64([]byte{1, 0, 0, 0},
		seconds)...)...)...)
	film := append(box("ftyp", []byte("isom0000")...), box("mdat", make([]byte, 60)...)...)
	for name, b := range map[string][]byte{"mp4": append(film, append(short, 0, 0, 0, 0)...),
		"later": append(film, wide...), "mov": append(append(box("wide", 0, 0, 0, 0), short...), 0, 0, 0, 0)} {
		at, ok := shot(b)
		require.True(t, ok, name)
		require.True(t, at.Equal(want), "%s: %v", name, at)
		for cut := range b {
			_, ok := shot(b[:cut])
			require.False(t, ok && cut < len(b)-100, "%s cut at %d", name, cut)
		}
	}
	_, ok := shot(append(film, box("moov", box("mvhd", make([]byte, 100)...)...)...))
	require.False(t, ok, "a film that does not say")
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
