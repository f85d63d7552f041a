package content

import (
	"bytes"
	"encoding/binary"
	"errors"
	"io"
	"strings"
	"time"
)

// errNoDate says that a picture does not tell when it was taken, or is not as its standard says.
var errNoDate = errors.New("no date")

// part is a stretch of a file that is read by places in it. Reads beyond its end fail.
type part struct {
	*io.SectionReader
	order binary.ByteOrder
}

func partOf(r io.ReaderAt, from, size int64) part {
	return part{io.NewSectionReader(r, from, size), binary.BigEndian}
}

// from is what is left of a part from a place on.
func (p part) from(at int64) part { return p.sub(at, p.Size()-at) }

// sub is a part of the part; empty if there is no such.
func (p part) sub(at, size int64) part {
	if at < 0 || size < 0 || at > p.Size() {
		at, size = 0, 0
	}
	return part{io.NewSectionReader(p, at, min(size, p.Size()-at)), p.order}
}

func (p part) bytes(at int64, n int) ([]byte, error) {
	b := make([]byte, n)
	_, err := p.ReadAt(b, at)
	if err == io.EOF {
		err = errNoDate
	}
	return b, err
}

// number reads an unsigned number of so many bytes: 0, 1, 2, 4 or 8.
func (p part) number(at int64, n int) (uint64, error) {
	if n == 0 {
		return 0, nil
	}
	b, err := p.bytes(at, n)
	switch {
	case err != nil:
		return 0, err
	case n == 1:
		return uint64(b[0]), nil
	case n == 2:
		return uint64(p.order.Uint16(b)), nil
	case n == 4:
		return uint64(p.order.Uint32(b)), nil
	case n == 8:
		return p.order.Uint64(b), nil
	}
	return 0, errNoDate
}

// exifHead begins Exif data that lie in a JPEG, and in some other files too.
const exifHead = "Exif\x00\x00"

// The tags of Exif data (CIPA DC-008): where those of the picture's taking lie, and when that was.
const (
	tagExif  = 0x8769
	tagTaken = 0x9003
)

// exifTaken reads when a picture was taken from its Exif data, which are built as a TIFF (TIFF 6.0).
func exifTaken(p part) (time.Time, error) {
	if head, err := p.bytes(0, len(exifHead)); err == nil && string(head) == exifHead {
		p = p.from(int64(len(exifHead)))
	}
	order, err := p.bytes(0, 2)
	switch {
	case err != nil:
		return time.Time{}, err
	case string(order) == "II":
		p.order = binary.LittleEndian
	case string(order) != "MM":
		return time.Time{}, errNoDate
	}
	first, err := p.number(4, 4)
	if err != nil {
		return time.Time{}, err
	}
	at, err := p.entry(int64(first), tagTaken)
	if err != nil { // the first list seldom has it
		if at, err = p.entry(int64(first), tagExif); err != nil {
			return time.Time{}, err
		}
		list, err := p.number(at+8, 4)
		if err != nil {
			return time.Time{}, err
		}
		if at, err = p.entry(int64(list), tagTaken); err != nil {
			return time.Time{}, err
		}
	}
	where, err := p.number(at+8, 4)
	if err != nil {
		return time.Time{}, err
	}
	text, err := p.bytes(int64(where), len("2006:01:02 15:04:05"))
	if err != nil {
		return time.Time{}, err
	}
	return time.ParseInLocation("2006:01:02 15:04:05", string(text), time.Local)
}

// entry finds the entry of a tag in a list of a TIFF.
func (p part) entry(list int64, tag uint64) (at int64, err error) {
	const long = 12 // tag, type, count, value or its place
	n, err := p.number(list, 2)
	if err != nil {
		return 0, err
	}
	for at := list + 2; at < list+2+int64(n)*long; at += long {
		is, err := p.number(at, 2)
		if err != nil {
			return 0, err
		}
		if is == tag {
			return at, nil
		}
	}
	return 0, errNoDate
}

// exifInJPEG finds the Exif data in a JPEG (ISO/IEC 10918-1; CIPA DC-008): they have a segment.
func exifInJPEG(p part) (part, error) {
	const app1, scan = 0xE1, 0xDA
	for at, n := int64(2), 0; n < maxBoxes; n++ {
		head, err := p.bytes(at, 4)
		switch {
		case err != nil:
			return part{}, err
		case head[0] != 0xFF, head[1] == scan:
			return part{}, errNoDate
		case head[1] == 0xFF: // filled up
			at++
			continue
		}
		size := int64(binary.BigEndian.Uint16(head[2:]))
		if in := p.sub(at+4, size-2); head[1] == app1 && in.begins(exifHead) {
			return in, nil
		}
		at += 2 + size
	}
	return part{}, errNoDate
}

func (p part) begins(with string) bool {
	head, err := p.bytes(0, len(with))
	return err == nil && string(head) == with
}

// exifInPNG finds the Exif data in a PNG (PNG, third edition): they have a chunk.
func exifInPNG(p part) (part, error) { return p.chunk(8, binary.BigEndian, "eXIf", 4, 1) }

// exifInWebP finds the Exif data in a WebP (RFC 9649): they have a chunk, whose size is even.
func exifInWebP(p part) (part, error) { return p.chunk(12, binary.LittleEndian, "EXIF", 0, 2) }

// chunk finds the content of a chunk among those from a place on. After each come so many more
// bytes, and each is filled up to a multiple of a size. A PNG's chunk begins with its size, a
// RIFF's with its name.
func (p part) chunk(at int64, order binary.ByteOrder, name string, after, multiple int64) (part, error) {
	for range maxBoxes {
		head, err := p.bytes(at, 8)
		if err != nil {
			return part{}, err
		}
		its, size := head[4:], order.Uint32(head)
		if order == binary.LittleEndian {
			its, size = head[:4], order.Uint32(head[4:])
		}
		if string(its) == name {
			return p.sub(at+8, int64(size)), nil
		}
		at += 8 + (int64(size)+multiple-1)/multiple*multiple + after
	}
	return part{}, errNoDate
}

// exifInBoxes finds the Exif data in a HEIC or AVIF (ISO 23008-12): they are an item, of which
// one box tells the number and another where it lies.
func exifInBoxes(p part) (part, error) {
	meta, err := p.box("meta")
	if err != nil {
		return part{}, err
	}
	meta = meta.from(4) // version and flags
	item, err := meta.exifItem()
	if err != nil {
		return part{}, err
	}
	at, size, err := meta.placeOf(item)
	if err != nil {
		return part{}, err
	}
	in := p.sub(at, size)
	skip, err := in.number(0, 4) // of what comes before the data
	if err != nil {
		return part{}, err
	}
	return in.from(4 + int64(skip)), nil
}

// box finds the content of the first box of a name.
func (p part) box(name string) (part, error) {
	at, size, ok := box(p, name, 0, p.Size())
	if !ok {
		return part{}, errNoDate
	}
	return p.sub(at, size), nil
}

// exifItem reads the number of the item that is Exif data (ISO 14496-12, iinf and infe).
func (p part) exifItem() (item uint64, err error) {
	list, err := p.box("iinf")
	if err != nil {
		return 0, err
	}
	head, err := list.bytes(0, 4)
	if err != nil {
		return 0, err
	}
	from := int64(4 + 2)
	if head[0] > 0 {
		from += 2
	}
	for left, n := list.from(from), 0; n < maxBoxes; n++ {
		at, size, ok := box(left, "infe", 0, left.Size())
		if !ok {
			break
		}
		one := left.sub(at, size)
		version, err := one.number(0, 1)
		if err != nil {
			return 0, err
		}
		long := 2
		if version >= 3 {
			long = 4
		}
		if kind, err := one.bytes(int64(4+long+2), 4); err == nil && string(kind) == "Exif" {
			return one.number(4, long)
		}
		left = left.from(at + size)
	}
	return 0, errNoDate
}

// placeOf reads where in the file an item lies, and how long it is (ISO 14496-12, iloc).
func (p part) placeOf(item uint64) (at, size int64, err error) {
	list, err := p.box("iloc")
	if err != nil {
		return 0, 0, err
	}
	r := &numbers{part: list}
	version := r.next(1)
	r.next(1)
	r.next(2)
	sizes := r.next(2)
	offsets, lengths, bases, indices := int(sizes>>12), int(sizes>>8&15), int(sizes>>4&15), int(sizes&15)
	if version == 0 {
		indices = 0
	}
	long := 2
	if version >= 2 {
		long = 4
	}
	for n := min(r.next(long), maxBoxes); n > 0 && r.err == nil; n-- {
		its, method := r.next(long), uint64(0)
		if version >= 1 {
			method = r.next(2)
		}
		r.next(2)
		base := r.next(bases)
		for i := min(r.next(2), maxBoxes); i > 0 && r.err == nil; i-- {
			r.next(indices)
			offset, length := r.next(offsets), r.next(lengths)
			if its == item && method == 0 && r.err == nil {
				return int64(base + offset), int64(length), nil
			}
		}
	}
	return 0, 0, errors.Join(errNoDate, r.err)
}

// numbers reads one number after the other.
type numbers struct {
	part part
	at   int64
	err  error
}

func (r *numbers) next(n int) uint64 {
	if r.err != nil {
		return 0
	}
	var v uint64
	v, r.err = r.part.number(r.at, n)
	r.at += int64(n)
	return v
}

// exifIn finds the Exif data in a picture, by how it begins.
func exifIn(head []byte, p part) (part, error) {
	begins := func(with string) bool { return bytes.HasPrefix(head, []byte(with)) }
	switch {
	case begins("\xff\xd8"):
		return exifInJPEG(p)
	case begins("\x89PNG"):
		return exifInPNG(p)
	case begins("II*\x00"), begins("MM\x00*"):
		return p, nil
	case begins("RIFF") && len(head) >= 12 && string(head[8:12]) == "WEBP":
		return exifInWebP(p)
	case begins("FUJIFILMCCD-RAW") && len(head) >= 92:
		return exifInJPEG(p.sub(int64(binary.BigEndian.Uint32(head[84:])), int64(binary.BigEndian.Uint32(head[88:]))))
	}
	if brand := brandOf(head); brand != "" && strings.Contains("heic heix heim heis hevc mif1 msf1 avif avis", brand) {
		return exifInBoxes(p)
	}
	return part{}, errNoDate
}
