package rule

import (
	"stilltide/internal/core/expr"
)

// Placeholder is a word that is filled in.
type Placeholder struct{ Shown, Means string }

// Placeholders lists the placeholders of all rules.
func Placeholders() (list []Placeholder) {
	for _, p := range placeholders {
		list = append(list, Placeholder{p.shown, p.doc})
	}
	return list
}

// placeholders are the words that every rule has, and those that only batches
// and groups have.
var placeholders = []struct{ word, shown, doc string }{
	{"file", "{file}", "the whole path"},
	{"name", "{name}", "the name"},
	{"stem", "{stem}", "the name without its last ending"},
	{"ext", "{ext}", "the last ending, without its dot"},
	{"folder", "{folder}", "the folder that it is in"},
	{"watch", "{watch}", "the watched folder that it was found in"},
	{"rel", "{rel}", "the path below the watched folder"},
	{"rel_folder", "{rel_folder}", "the folder of that path; `.` for the watched folder itself"},
	{"size", "{size}", "bytes"},
	{"media_type", "{media_type}", "media type by content, then by name: `image/png`"},
	{"category", "{category}", "what kind of file it is: `pictures`, `documents` and so on (`category`)"},
	{"main_type", "{main_type}", "its part before the slash: `image`"},
	{"event", "{event}", "`added`, `changed`, `removed` or `renamed`"},
	{"old_file", "{old_file}", "the whole path that it had before it was renamed; empty otherwise"},
	{"hash", "{hash}", "SHA-256 of the content, hexadecimal"},
	{"rule", "{rule}", "the rule's name"},
	{"job", "{job}", "the job's number"},
	{"attempt", "{attempt}", "1 for the first"},
	{"scratch", "{scratch}", "a folder of this attempt's own, removed afterwards"},
	{"placed", "{placed}", "where the last step that placed something put it; empty before the first"},
	{"modified", "{modified:%Y-%m-%d}", "when the content was last changed (strftime)"},
	{"now", "{now:%H%M}", "the time of filling it"},
	{"shot", "{shot:%Y}",
		"when a picture or film was taken, by what it says itself (JPEG, HEIC, AVIF, PNG, WebP, TIFF, " +
			"most raw formats, MP4, MOV); else when it was modified"},
	{"created", "{created:%Y}", "when the file was made, where the file system knows it"},
	{"", "{files}", "batch or group: each of its files, a word each"},
	{"", "{list}, {list0}", "batch or group: a file with their paths, one a line or NUL-separated"},
	{"", "{WORD}", "what `match` or `watch` captured, a `let` word, or what a step saved; one that is a date " +
		"takes a format, too: `{day:%Y}`"},
	{"", "{WORD|lower}", "changed: `lower`, `upper`, `title` (each word begins with a capital), `slug` (letters and " +
		"digits with dashes between), `pad:4` (zeros before it), `json` (to stand inside a JSON string), `folders` " +
		"(in a destination: a `/` in it makes folders)"},
	{"", "{{", "a brace"},
}

// builtIn are the placeholders that every rule has.
var builtIn = func() (words []string) {
	for _, p := range placeholders {
		if p.word != "" {
			words = append(words, p.word)
		}
	}
	return words
}()

// ExpressionWords lists the words that expressions have besides captures and `let` words.
func ExpressionWords() []string { return expr.New(nil).ForSteps().Names() }

// BuiltIn lists the placeholders that every rule has.
func BuiltIn() []string { return append([]string(nil), builtIn...) }
