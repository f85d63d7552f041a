package rule

import (
	"fmt"
	"maps"
	"math"
	"path"
	"regexp"
	"slices"
	"sort"
	"strings"
	"sync"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/goccy/go-yaml/ast"

	"stilltide/internal/core/expr"
	"stilltide/internal/core/fill"
	"stilltide/internal/core/pattern"
)

// Existing says what happens with files that were there before the rule
// first watched the folder.
type Existing Choice

const (
	ExistingTake  Existing = "take"
	ExistingLeave Existing = "leave"
)

func readExisting(d *decoder, n ast.Node, v *Existing) {
	*v = Existing(choose(d, n, "existing", "take", "leave"))
}

// SizeRange is a range of bytes: `100MB..`, `..2KiB`, `1KB..2KB`.
type SizeRange struct {
	Text     string
	Low, Top int64
}

func readSizeRange(d *decoder, n ast.Node, v *SizeRange) {
	s, _ := d.scalar(n)
	low, top, ok := strings.Cut(s, "..")
	r := SizeRange{Text: s, Top: math.MaxInt64}
	read := func(text string, into *int64) {
		bytes, err := humanize.ParseBytes(strings.TrimSpace(text))
		ok = ok && err == nil
		*into = int64(bytes)
	}
	if low != "" {
		read(low, &r.Low)
	}
	if top != "" {
		read(top, &r.Top)
	}
	if !ok || low+top == "" || r.Low > r.Top {
		d.errorAt(n, "range", fmt.Sprintf("%q is not a range of sizes", s),
			"write 100MB.. for at least, ..2KiB for at most, 1KB..2KB for both")
		return
	}
	*v = r
}

// Set reports whether the range was written.
func (v SizeRange) Set() bool { return v.Text != "" }

// Holds reports whether a size lies in the range, its ends included.
func (v SizeRange) Holds(size int64) bool { return v.Low <= size && size <= v.Top }

// AgeRange is a range of time spans: `1h..30d`, `10m..`, `..1d`.
type AgeRange struct {
	Text     string
	Low, Top time.Duration
}

func readAgeRange(d *decoder, n ast.Node, v *AgeRange) {
	s, _ := d.scalar(n)
	low, top, ok := strings.Cut(s, "..")
	r := AgeRange{Text: s, Top: math.MaxInt64}
	read := func(text string, into *time.Duration) {
		span, err := ParseDuration(strings.TrimSpace(text))
		ok = ok && err == nil
		*into = span
	}
	if low != "" {
		read(low, &r.Low)
	}
	if top != "" {
		read(top, &r.Top)
	}
	if !ok || low+top == "" || r.Low > r.Top {
		d.errorAt(n, "range", fmt.Sprintf("%q is not a range of ages", s),
			"write 1h.. for older, ..30d for younger, 1h..30d for both")
		return
	}
	*v = r
}

// Set reports whether the range was written.
func (v AgeRange) Set() bool { return v.Text != "" }

// Holds reports whether an age lies in the range, its ends included.
func (v AgeRange) Holds(age time.Duration) bool { return v.Low <= age && age <= v.Top }

// Let is one more word of a rule: an expression.
type Let struct {
	Word    string
	Text    Text
	Program *expr.Program
}

// Example is a file that `check` tries the rules on.
type Example struct {
	File      Text      `key:"file" doc:"path below the rule's first watched folder"`
	Size      Size      `key:"size" doc:"its size; 0 if left out"`
	Modified  Text      `key:"modified" doc:"when it was changed; now if left out"`
	Age       Duration  `key:"age" doc:"or how long ago that was"`
	MediaType Text      `key:"media_type" doc:"its media type; by its name if left out"`
	Event     Event     `key:"event" doc:"what happened to it"`
	Taken     *bool     `key:"taken" doc:"whether this rule takes it"`
	FileAfter Text      `key:"file_after" doc:"where it ends after success, relative to the rules file"`
	At        time.Time // Modified or Age, as a time; zero for now
	Pos       Pos
}

func (e *Example) SetPos(p Pos) { e.Pos = p }

// conditions compiles what is tested beyond the name.
func (d *decoder) conditions(r *Rule) {
	for _, k := range r.MediaType {
		if _, err := path.Match(k.S, "image/png"); err != nil || !strings.Contains(k.S, "/") {
			d.add(SeverityError, k.Pos, "media_type", fmt.Sprintf("%q is not a media type", k.S),
				"write image/png, or image/* for all pictures")
		}
	}
	if r.Share {
		for key, p := range map[string]*Place{"processed": r.Processed, "failed": r.Failed} {
			if p != nil {
				d.add(SeverityError, p.To.Pos, "share",
					fmt.Sprintf("a rule that shares its files with later ones cannot move them: it has %s", key),
					"remove one of the two")
			}
		}
	}
	shared := r.Captures()
	env := expr.New(append(slices.Sorted(maps.Keys(d.words)), shared...))
	words := make([]string, 0, len(r.Let))
	for w := range r.Let {
		words = append(words, w)
	}
	// In the order of the text, so that a word may use the ones before it.
	sort.Slice(words, func(i, j int) bool {
		a, b := r.Let[words[i]].Pos, r.Let[words[j]].Pos
		return a.Line < b.Line || a.Line == b.Line && a.Column < b.Column
	})
	r.Lets = nil
	for _, w := range words {
		text := r.Let[w]
		if !pattern.ValidName(w) || isBuiltIn(w) || contains(shared, w) || d.words[w] != "" {
			d.add(SeverityError, text.Pos, "let", fmt.Sprintf("%q cannot name a word here", w),
				"use a-z, 0-9 and _, beginning with a letter, and no word that is there already")
			continue
		}
		p := d.expression(env, text, "")
		if p == nil {
			continue
		}
		r.Lets = append(r.Lets, Let{Word: w, Text: text, Program: p})
		env = env.With(w, p.Type())
	}
	r.env, r.Where.Program = env, nil
	if r.Where.Set() {
		r.Where.Program = d.expression(env, r.Where.Text, "bool")
	}
	for i := range r.Examples {
		d.example(&r.Examples[i])
	}
}

// Where is the expression of `where`.
type Where struct {
	Text
	Program *expr.Program
}

// expression compiles one; an error points inside it.
func (d *decoder) expression(env expr.Env, t Text, want string) *expr.Program {
	p, err := env.Compile(t.S, want)
	if err == nil {
		return p
	}
	at := t.Pos
	if e, ok := err.(*expr.Error); ok && e.Near != "" {
		at = d.find(t.Pos, e.Near)
	}
	message, hint := "this expression cannot be used: "+err.Error(), ""
	if m := undeclared().FindStringSubmatch(err.Error()); m != nil {
		words := env.Names()
		message, hint = fmt.Sprintf("there is no word %s in expressions", m[1]), "the words here are "+
			strings.Join(words, ", ")
		if other := otherWords[m[1]]; contains(words, other) {
			hint = "it is " + other
		} else if near := Nearest(m[1], words); near != "" {
			hint = "did you mean " + near + "?"
		}
	}
	d.add(SeverityError, at, "expression", message, hint)
	return nil
}

// undeclared is how the compiler of expressions names a word that it does not know.
var undeclared = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`undeclared reference to '([A-Za-z0-9_]+)'`) })

func (d *decoder) example(e *Example) {
	if !e.File.Set() {
		d.add(SeverityError, e.Pos, "missing", "an example needs file: and a path", "")
	}
	if e.Modified.Set() {
		at, ok := fill.ParseDate(e.Modified.S)
		if !ok {
			d.add(SeverityError, e.Modified.Pos, "date", fmt.Sprintf("%q is not a date", e.Modified.S),
				"write 2031-04-02 or 2031-04-02T14:20")
		}
		e.At = at
	}
}
