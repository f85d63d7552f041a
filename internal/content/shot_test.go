package content

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/bep/imagemeta"
	"github.com/stretchr/testify/require"

	"stilltide/internal/machine"
)

// camera makes pictures that say when they were taken, in any file that can, beside other things.
type camera struct{ *rand.Rand }

func (c camera) noise() []byte {
	b := make([]byte, c.IntN(40))
	for i := range b {
		b[i] = byte(c.Uint32())
	}
	return b
}

// tiff are Exif data: lists of entries in the order of their tags.
func (c camera) tiff(taken string) []byte {
	order, mark := byteOrder(binary.LittleEndian), "II*\x00"
	if c.IntN(2) == 0 {
		order, mark = binary.BigEndian, "MM\x00*"
	}
	b := order.AppendUint32([]byte(mark), 8)
	before, inFirst := uint16(c.IntN(4)), c.IntN(5) == 0
	list := func(tags int, tag uint16, kind uint16, count, value uint32) {
		b = order.AppendUint16(b, uint16(tags)+1)
		for i := range tags {
			b = order.AppendUint16(b, 0x0100+uint16(i))
			b = order.AppendUint16(b, 3) // a short
			b = order.AppendUint32(b, 1)
			b = order.AppendUint32(b, 7)
		}
		b = order.AppendUint16(b, tag)
		b = order.AppendUint16(b, kind)
		b = order.AppendUint32(b, count)
		b = order.AppendUint32(b, value)
		b = order.AppendUint32(b, 0)
	}
	end := 8 + 2 + 12*(uint32(before)+1) + 4
	if inFirst {
		list(int(before), 0x9003, 2, 20, end)
	} else {
		list(int(before), 0x8769, 4, 1, end)
		list(0, 0x9003, 2, 20, end+2+12+4)
	}
	return append(b, taken+"\x00"...)
}

func (c camera) jpeg(tiff []byte) []byte {
	b := []byte("\xff\xd8")
	segment := func(kind byte, content []byte) {
		b = binary.BigEndian.AppendUint16(append(b, 0xFF, kind), uint16(len(content)+2))
		b = append(b, content...)
	}
	for range c.IntN(3) {
		segment(0xE0, c.noise())
	}
	if c.IntN(3) == 0 {
		segment(0xE1, []byte("http://ns.adobe.com/xap/1.0/\x00<x/>"))
	}
	segment(0xE1, append([]byte(exifHead), tiff...))
	segment(0xDA, c.noise())
	return append(b, c.noise()...)
}

func (c camera) png(tiff []byte) []byte {
	b := []byte("\x89PNG\r\n\x1a\n")
	chunk := func(name string, content []byte) {
		b = binary.BigEndian.AppendUint32(b, uint32(len(content)))
		body := append([]byte(name), content...)
		b = binary.BigEndian.AppendUint32(append(b, body...), crc32.ChecksumIEEE(body))
	}
	chunk("IHDR", make([]byte, 13))
	for range c.IntN(3) {
		chunk("IDAT", c.noise())
	}
	chunk("eXIf", tiff)
	chunk("IEND", nil)
	return b
}

// webp has chunks of odd sizes, which the other reader does not know to fill up, if it is told so.
func (c camera) webp(tiff []byte, odd bool) []byte {
	var b []byte
	chunk := func(name string, content []byte) {
		b = binary.LittleEndian.AppendUint32(append(b, name...), uint32(len(content)))
		if b = append(b, content...); len(content)%2 == 1 {
			b = append(b, 0)
		}
	}
	chunk("VP8X", []byte{8, 0, 0, 0, 1, 0, 0, 1, 0, 0})
	for range c.IntN(3) {
		chunk("VP8 ", bytes.Repeat(c.noise(), 2))
	}
	if odd {
		chunk("VP8 ", make([]byte, 1+2*c.IntN(9)))
	}
	chunk("EXIF", tiff)
	head := binary.LittleEndian.AppendUint32([]byte("RIFF"), uint32(len(b)+4))
	return append(append(head, "WEBP"...), b...)
}

func isoBox(name string, content ...[]byte) []byte {
	all := bytes.Join(content, nil)
	return append(append(binary.BigEndian.AppendUint32(nil, uint32(8+len(all))), name...), all...)
}

// heic has the Exif data as an item among others, in a file of boxes.
func (c camera) heic(tiff []byte) []byte {
	brand := []string{"heic", "mif1", "avif"}[c.IntN(3)]
	begin := isoBox("ftyp", []byte(brand+"0000"))
	u16, u32 := binary.BigEndian.AppendUint16, binary.BigEndian.AppendUint32
	item := uint16(2 + c.IntN(50))
	infe := func(id uint16, kind string) []byte {
		return isoBox("infe", []byte{2, 0, 0, 0}, u16(nil, id), []byte{0, 0}, []byte(kind), []byte{0})
	}
	iinf := isoBox("iinf", []byte{0, 0, 0, 0, 0, 2}, infe(1, "hvc1"), infe(item, "Exif"))
	data := append([]byte{0, 0, 0, 6}, append([]byte(exifHead), tiff...)...)
	iloc := func(at int) []byte {
		b := []byte{1, 0, 0, 0, 0x44, 0, 0, 2} // version, sizes of 4 bytes, two items
		for _, one := range []struct{ id, at, size int }{{1, 5, 5}, {int(item), at, len(data)}} {
			b = u16(u16(u16(u16(b, uint16(one.id)), 0), 0), 1)
			b = u32(u32(b, uint32(one.at)), uint32(one.size))
		}
		return isoBox("iloc", b)
	}
	meta := func(at int) []byte {
		boxes := [][]byte{{0, 0, 0, 0}, isoBox("hdlr", make([]byte, 25)), iinf, iloc(at)}
		if item%2 == 0 {
			boxes[2], boxes[3] = boxes[3], boxes[2]
		}
		return isoBox("meta", boxes...)
	}
	noise := c.noise()
	at := len(begin) + len(meta(0)) + 8 + len(noise)
	return bytes.Join([][]byte{begin, meta(at), isoBox("mdat", noise, data)}, nil)
}

// shotByOther reads the same with a reader that shares no code with ours.
func shotByOther(b []byte, format imagemeta.ImageFormat) (at time.Time, ok bool) {
	_, _ = imagemeta.Decode(imagemeta.Options{R: bytes.NewReader(b), ImageFormat: format, Sources: imagemeta.EXIF,
		ShouldHandleTag: func(tag imagemeta.TagInfo) bool { return tag.Tag == "DateTimeOriginal" },
		HandleTag: func(tag imagemeta.TagInfo) error {
			text, isText := tag.Value.(string)
			date, err := time.ParseInLocation("2006:01:02 15:04:05", text, time.Local)
			at, ok = date, isText && err == nil
			return imagemeta.ErrStopWalking
		},
		Warnf: func(string, ...any) {},
	})
	return at, ok
}

// Whatever a picture's file is, and whatever else is in it, its time is read as another reader reads
// it; and a file that is cut short or damaged anywhere does no harm.
func TestShotAgreesWithAnotherReader(t *testing.T) {
	path := filepath.Join(machine.Memory(t), "p") // a disk would be flushed each time that it is written anew
	for seed := range uint64(200) {
		c := camera{rand.New(rand.NewPCG(seed, 3))}
		want := time.Date(1990+c.IntN(60), time.Month(1+c.IntN(12)), 1+c.IntN(28), c.IntN(24), c.IntN(60), c.IntN(60),
			0,
			time.Local)
		tiff := c.tiff(want.Format("2006:01:02 15:04:05"))
		for _, kind := range []struct {
			name   string
			file   []byte
			format imagemeta.ImageFormat
		}{{"tiff", tiff, imagemeta.TIFF}, {"jpeg", c.jpeg(tiff), imagemeta.JPEG}, {"png", c.png(tiff), imagemeta.PNG},
			{"webp", c.webp(tiff, false), imagemeta.WebP}, {"odd webp", c.webp(tiff, true), imagemeta.ImageFormatAuto},
			{"heic", c.heic(tiff), imagemeta.HEIF}} {
			hint := fmt.Sprintf("%s of seed %d", kind.name, seed)
			require.NoError(t, os.WriteFile(path, kind.file, 0o666))
			at, ok := Shot(path)
			require.True(t, ok, hint)
			require.Equal(t, want, at, hint)
			if kind.format != imagemeta.ImageFormatAuto {
				other, ok := shotByOther(kind.file, kind.format)
				require.True(t, ok, hint)
				require.Equal(t, other, at, hint)
			}

			damaged := bytes.Clone(kind.file[:c.IntN(len(kind.file))+1])
			for range c.IntN(4) {
				damaged[c.IntN(len(damaged))] = byte(c.Uint32())
			}
			require.NoError(t, os.WriteFile(path, damaged, 0o666))
			Shot(path)
		}
	}
}

// No content of a file does harm to the reader of its time.
func FuzzShot(f *testing.F) {
	c := camera{rand.New(rand.NewPCG(1, 3))}
	tiff := c.tiff("2031:04:02 14:20:05")
	for _, b := range [][]byte{tiff, c.jpeg(tiff), c.png(tiff), c.webp(tiff, true), c.heic(tiff)} {
		f.Add(b)
	}
	path := filepath.Join(f.TempDir(), "p")
	f.Fuzz(func(t *testing.T, b []byte) {
		require.NoError(t, os.WriteFile(path, b, 0o666))
		Shot(path)
	})
}
