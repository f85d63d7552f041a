package rule

import (
	"maps"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
)

// Categories are what people sort by: pictures, documents and so on. A category is told
// from the media type, which comes from the content; where the content says little (plain
// text, a zip, anything at all), the ending of the name decides first.
type Categories struct {
	Own []OwnCategory     // of the rules file, in the order of their names
	As  map[string]string // other names for {category}
}

// OwnCategory is a category of the rules file.
type OwnCategory struct {
	Name  string
	Types []string // media types, which may be patterns, and endings with a dot
}

// Category adds to a category of the rules file, or renames one.
type Category struct {
	Types []Text `key:"types" doc:"media types (image/vnd.dwg, image/*) and endings (.dxf) that belong to it, before all others"`
	As    Text   `key:"as" doc:"the name that {category} gives instead"`
}

// OtherCategory is the category of what belongs to none.
const OtherCategory = "other"

// CategoryTypes lists what belongs to each category: media types, whole or up to their
// slash, and endings.
var CategoryTypes = map[string]string{
	"pictures": "image/ .jpg .jpeg .png .gif .webp .heic .heif .avif .tif .tiff .bmp .svg .psd .xcf .raw .cr2 " +
		".cr3 .nef .arw .dng .pgm .ppm .pbm",
	"audio": "audio/ .mp3 .flac .ogg .oga .opus .m4a .wav .aac .aiff .mid .midi",
	"video": "video/ .mp4 .m4v .mkv .mov .avi .webm .mpg .mpeg .wmv .flv .mts .m2ts",
	"documents": "text/plain text/markdown text/rtf application/pdf application/rtf application/msword " +
		"application/postscript application/vnd.oasis.opendocument.text " +
		"application/vnd.openxmlformats-officedocument.wordprocessingml.document .pdf .txt .md .markdown .rst " +
		".adoc .rtf .doc .docx .odt .pages .tex .ps .log",
	"spreadsheets": "application/vnd.ms-excel application/vnd.oasis.opendocument.spreadsheet " +
		"application/vnd.openxmlformats-officedocument.spreadsheetml.sheet .xls .xlsx .xlsm .ods .numbers",
	"presentations": "application/vnd.ms-powerpoint application/vnd.oasis.opendocument.presentation " +
		"application/vnd.openxmlformats-officedocument.presentationml.presentation " +
		".ppt .pptx .odp .key",
	"books": "application/epub+zip application/x-mobipocket-ebook application/vnd.amazon.mobi8-ebook " +
		"application/x-fictionbook+xml .epub .mobi .azw .azw3 .fb2 .djvu .cbz .cbr",
	"archives": "application/zip application/gzip application/x-tar application/x-7z-compressed " +
		"application/x-rar-compressed application/vnd.rar application/x-bzip2 application/x-xz application/zstd " +
		"application/x-iso9660-image .zip .tar .gz .tgz .bz2 .xz .zst .7z .rar .iso .lz .lz4 .cab .img",
	"code": "text/html text/css text/javascript application/javascript text/x- application/x-sh text/x-python " +
		"text/x-perl .go .py .js .mjs .ts .tsx .jsx .c .h .cc .cpp .hpp .rs .java .kt .swift .rb .php .pl .sh " +
		".bash " +
		".lua .r .jl .cs .html .htm .css .scss .sql .vue .ipynb",
	"data": "text/csv text/tab-separated-values application/json application/geo+json application/xml " +
		"text/xml application/vnd.sqlite3 application/x-sqlite3 application/x-hdf application/x-parquet .csv " +
		".tsv .json .jsonl .ndjson .geojson .xml .yaml .yml .toml .ini .sqlite .db .parquet .h5 .nc .xyz .dat",
	"fonts": "font/ application/font application/vnd.ms-fontobject .ttf .otf .woff .woff2 .eot",
	"programs": "application/x-elf application/x-executable application/x-sharedlib application/x-object " +
		"application/x-mach-binary application/vnd.microsoft.portable-executable application/x-msdownload " +
		"application/x-msi application/vnd.debian.binary-package application/x-rpm application/java-archive " +
		"application/vnd.android.package-archive .exe .msi .dll .deb .rpm .apk .dmg .appimage .jar .bin .so",
}

// generic are media types that say little: a name says more.
var generic = map[string]bool{
	"": true, "text/plain": true, "application/octet-stream": true, "application/zip": true,
	"application/x-ole-storage": true, "text/xml": true, "application/xml": true, "application/gzip": true,
}

// categoryOf turns the lists round, when they are first needed.
var categoryOf = sync.OnceValues(func() (types, endings map[string]string) {
	types, endings = map[string]string{}, map[string]string{}
	for _, name := range slices.Sorted(maps.Keys(CategoryTypes)) {
		for _, one := range strings.Fields(CategoryTypes[name]) {
			if one[0] == '.' {
				endings[one] = name
			} else {
				types[one] = name
			}
		}
	}
	return types, endings
})

// Of returns the category of a file, by its media type and its name.
func (c *Categories) Of(mediaType, name string) string {
	ending := strings.ToLower(filepath.Ext(name))
	if c != nil {
		for _, own := range c.Own {
			for _, one := range own.Types {
				if is, err := path.Match(one, mediaType); one == ending || err == nil && is {
					return own.Name
				}
			}
		}
	}
	byType, byEnding := categoryOf()
	named := byEnding[ending]
	if generic[mediaType] && named != "" {
		return named
	}
	for at := mediaType; at != ""; {
		if name := byType[at]; name != "" {
			return name
		}
		slash := strings.IndexByte(at, '/')
		if slash < 0 || slash == len(at)-1 {
			break
		}
		at = at[:slash+1]
	}
	if strings.HasPrefix(mediaType, "text/x-") {
		return "code"
	}
	if named != "" {
		return named
	}
	return OtherCategory
}

// Shown is the name that {category} gives.
func (c *Categories) Shown(name string) string {
	if c != nil && c.As[name] != "" {
		return c.As[name]
	}
	return name
}
