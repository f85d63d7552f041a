package watchfs

import (
	"bytes"
	"encoding/binary"
	"io"
	"mime"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/gabriel-vasile/mimetype"
)

// MediaType returns a file's media type (RFC 6838) by its content; where that says
// no more than text or bytes, by its name. "" if neither says anything.
func MediaType(path string) string {
	byName := MediaTypeOfName(path)
	found, err := mimetype.DetectFile(path)
	if err != nil {
		return byName
	}
	kind, _, _ := strings.Cut(found.String(), ";")
	if (kind == "text/plain" || kind == "application/octet-stream") && byName != "" {
		return byName
	}
	return kind
}

// MediaTypeOfName returns a media type by a name's ending alone.
func MediaTypeOfName(path string) string {
	kind, _, _ := strings.Cut(mime.TypeByExtension(strings.ToLower(filepath.Ext(path))), ";")
	return kind
}

// Shot returns the time that a picture says it was taken: DateTimeOriginal of
// its Exif data (CIPA DC-008), in a JPEG or TIFF file. ok is false if it says none.
func Shot(path string) (at time.Time, ok bool) {
	f, err := os.Open(path)
	if err != nil {
		return time.Time{}, false
	}
	defer f.Close()
	head := make([]byte, 256<<10) // Exif data stands near the start
	n, err := io.ReadFull(f, head)
	if err != nil && err != io.ErrUnexpectedEOF {
		return time.Time{}, false
	}
	head = head[:n]
	if i := bytes.Index(head, []byte("Exif\x00\x00")); i >= 0 && bytes.HasPrefix(head, []byte{0xff, 0xd8}) {
		head = head[i+6:]
	}
	return exifDate(head)
}

// exifDate reads a TIFF structure.
func exifDate(tiff []byte) (time.Time, bool) {
	if len(tiff) < 8 {
		return time.Time{}, false
	}
	var order binary.ByteOrder = binary.LittleEndian
	switch string(tiff[:4]) {
	case "II*\x00":
	case "MM\x00*":
		order = binary.BigEndian
	default:
		return time.Time{}, false
	}
	const pointer, taken = 0x8769, 0x9003
	inner, _ := exifEntry(tiff, order, order.Uint32(tiff[4:]), pointer)
	offset, count := exifEntry(tiff, order, inner, taken)
	if inner == 0 || count < 19 || int64(offset)+19 > int64(len(tiff)) {
		return time.Time{}, false
	}
	at, err := time.ParseInLocation("2006:01:02 15:04:05", string(tiff[offset:offset+19]), time.Local)
	return at, err == nil
}

// exifEntry finds a tag in the folder at an offset: its value and count.
func exifEntry(tiff []byte, order binary.ByteOrder, at uint32, tag uint16) (value, count uint32) {
	if at == 0 || int64(at)+2 > int64(len(tiff)) {
		return 0, 0
	}
	entries := int64(order.Uint16(tiff[at:]))
	for i := range entries {
		e := int64(at) + 2 + 12*i
		if e+12 > int64(len(tiff)) {
			return 0, 0
		}
		if order.Uint16(tiff[e:]) == tag {
			return order.Uint32(tiff[e+8:]), order.Uint32(tiff[e+4:])
		}
	}
	return 0, 0
}
