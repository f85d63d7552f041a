package content

import (
	"encoding/binary"
	"errors"
	"io"
	"os"
	"time"
)

// Shot returns when a picture or film says it was taken: DateTimeOriginal of its Exif data
// (CIPA DC-008) in JPEG, HEIC, AVIF, PNG, WebP, TIFF and the raw formats built on that, and in
// the picture inside a RAF; the creation time of a film (ISO 14496-12, mvhd) in MP4 and MOV.
// A time of a picture has no zone and counts as local. ok is false if it says none.
func Shot(path string) (at time.Time, ok bool) {
	f, err := os.Open(path)
	if err != nil {
		return time.Time{}, false
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil || !info.Mode().IsRegular() {
		return time.Time{}, false
	}
	whole := io.NewSectionReader(f, 0, info.Size())
	head := make([]byte, 128)
	n, err := io.ReadFull(f, head)
	if err != nil && !errors.Is(err, io.ErrUnexpectedEOF) {
		return time.Time{}, false
	}
	if head = head[:n]; isFilm(head) {
		return filmDate(whole)
	}
	in, err := exifIn(head, partOf(whole, 0, info.Size()))
	if err == nil {
		at, err = exifTaken(in)
	}
	return at, err == nil
}

// brandOf is the kind of a file of boxes (ISO 14496-12), "" for any other file.
func brandOf(head []byte) string {
	if len(head) < 12 || string(head[4:8]) != "ftyp" {
		return ""
	}
	return string(head[8:12])
}

// isFilm reports whether a file begins as an MP4 or MOV does.
func isFilm(head []byte) bool {
	if len(head) < 12 {
		return false
	}
	switch string(head[4:8]) {
	case "moov", "mdat", "wide": // a MOV may have no ftyp
		return true
	}
	switch brandOf(head) {
	case "isom", "iso2", "iso4", "iso5", "iso6", "mp41", "mp42", "avc1", "M4V ", "qt  ", "3gp4", "3gp5", "3gp6", "MSNV",
		"dash", "XAVC":
		return true
	}
	return false
}

// filmEpoch is from when films count their seconds.
var filmEpoch = time.Date(1904, 1, 1, 0, 0, 0, 0, time.UTC)

// maxBoxes bounds the boxes of a film that are looked at.
const maxBoxes = 1000

// filmDate reads the creation time in a film's header, in UTC.
func filmDate(r io.ReaderAt) (at time.Time, ok bool) {
	moov, size, found := box(r, "moov", 0, 1<<62)
	if !found {
		return time.Time{}, false
	}
	mvhd, _, found := box(r, "mvhd", moov, size)
	head := make([]byte, 12)
	if _, err := r.ReadAt(head, mvhd); !found || err != nil {
		return time.Time{}, false
	}
	seconds := uint64(binary.BigEndian.Uint32(head[4:]))
	if head[0] == 1 { // a later version, with wider numbers
		seconds = binary.BigEndian.Uint64(head[4:])
	}
	const centuries = 300 * 365 * 24 * 60 * 60
	if seconds == 0 || seconds > centuries {
		return time.Time{}, false
	}
	return filmEpoch.Add(time.Duration(seconds) * time.Second).Local(), true
}

// box finds a box among those in a range: where its content begins, and how long it is.
func box(r io.ReaderAt, name string, from, size int64) (at, long int64, ok bool) {
	head := make([]byte, 16)
	for range maxBoxes {
		n, err := r.ReadAt(head, from)
		if n < 8 || err != nil && n < 16 && !errors.Is(err, io.EOF) || size < 8 {
			return 0, 0, false
		}
		whole, skip := int64(binary.BigEndian.Uint32(head)), int64(8)
		switch {
		case whole == 0:
			whole = size // to the end
		case whole == 1 && n == 16:
			whole, skip = int64(binary.BigEndian.Uint64(head[8:])), 16
		}
		if whole < skip || whole > size {
			return 0, 0, false
		}
		if string(head[4:8]) == name {
			return from + skip, whole - skip, true
		}
		from, size = from+whole, size-whole
	}
	return 0, 0, false
}
