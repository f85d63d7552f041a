package notation

import (
	"errors"
	"fmt"
	"maps"
	"math"
	"path"
	"regexp"
	"slices"
	"sort"
	"strings"
	"sync"

	"github.com/goccy/go-yaml/ast"

	"stilltide/internal/core/diag"
	"stilltide/internal/core/expr"
	"stilltide/internal/core/fill"
	"stilltide/internal/core/pattern"
	"stilltide/internal/core/rule"
)

func readExisting(d *decoder, n ast.Node, v *rule.Existing) {
	*v = rule.Existing(choose(d, n, "existing", "take", "leave"))
}

func readSizeRange(d *decoder, n ast.Node, v *rule.SizeRange) {
	text, low, top, ok := readRange(d, n, ParseSize)
	if !ok {
		d.errorAt(n, "range", fmt.Sprintf("%q is not a range of sizes", text),
			"write 100MB.. for at least, ..2KiB for at most, 1KB..2KB for both")
		return
	}
	*v = rule.SizeRange{Text: text, Low: int64(low), Top: int64(top)}
}

func readAgeRange(d *decoder, n ast.Node, v *rule.AgeRange) {
	text, low, top, ok := readRange(d, n, rule.ParseDuration)
	if !ok {
		d.errorAt(n, "range", fmt.Sprintf("%q is not a range of ages", text),
			"write 1h.. for older, ..30d for younger, 1h..30d for both")
		return
	}
	*v = rule.AgeRange{Text: text, Low: low, Top: top}
}

// readRange reads two values with two dots between them, of which one may be left out.
func readRange[T ~int64](d *decoder, n ast.Node, read func(string) (T, error)) (text string, low, top T,
	ok bool) {
	text, _ = d.scalar(n)
	from, to, ok := strings.Cut(text, "..")
	top = math.MaxInt64
	var errs [2]error
	if from != "" {
		low, errs[0] = read(strings.TrimSpace(from))
	}
	if to != "" {
		top, errs[1] = read(strings.TrimSpace(to))
	}
	return text, low, top, ok && errors.Join(errs[:]...) == nil && from+to != "" && low <= top
}

// conditions compiles what is tested beyond the name.
func (d *decoder) conditions(r *rule.Rule) {
	for _, k := range r.MediaType {
		if _, err := path.Match(k.S, "image/png"); err != nil || !strings.Contains(k.S, "/") {
			d.add(diag.SeverityError, k.Pos, "media_type", fmt.Sprintf("%q is not a media type", k.S),
				"write image/png, or image/* for all pictures")
		}
	}
	if r.Share {
		for key, p := range map[string]*rule.Place{"processed": r.Processed, "failed": r.Failed} {
			if p != nil {
				d.add(diag.SeverityError, p.To.Pos, "share",
					fmt.Sprintf("a rule that shares its files with later ones cannot move them: it has %s", key),
					"remove one of the two")
			}
		}
	}
	shared := r.Captures()
	env := d.env(append(slices.Sorted(maps.Keys(d.words)), shared...))
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
		if !pattern.ValidName(w) || isBuiltIn(w) || Contains(shared, w) || d.words[w] != "" {
			d.add(diag.SeverityError, text.Pos, "let", fmt.Sprintf("%q cannot name a word here", w),
				"use a-z, 0-9 and _, beginning with a letter, and no word that is there already")
			continue
		}
		p := d.expression(env, text, "")
		if p == nil {
			continue
		}
		r.Lets = append(r.Lets, rule.Let{Word: w, Text: text, Program: p})
		env = env.With(w, p.Type())
	}
	r.Env, r.Where.Program = env, nil
	if r.Where.Set() {
		r.Where.Program = d.expression(env, r.Where.Text, "bool")
	}
	for i := range r.Examples {
		d.example(&r.Examples[i])
	}
}

// env is what an expression may name besides the built-in words; rules share it.
func (d *decoder) env(captures []string) expr.Env {
	key := strings.Join(captures, "\x00")
	env, made := d.envs[key]
	if !made {
		if d.envs == nil {
			d.envs = map[string]expr.Env{}
		}
		env = expr.New(captures)
		d.envs[key] = env
	}
	return env
}

// expression compiles one; an error points inside it.
func (d *decoder) expression(env expr.Env, t rule.Text, want string) *expr.Program {
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
		if other := diag.OtherWords[m[1]]; Contains(words, other) {
			hint = "it is " + other
		} else if near := diag.Nearest(m[1], words); near != "" {
			hint = "did you mean " + near + "?"
		}
	}
	d.add(diag.SeverityError, at, "expression", message, hint)
	return nil
}

func (d *decoder) example(e *rule.Example) {
	if !e.File.Set() {
		d.lacks(e.Pos, "an example needs file: and a path", "")
	}
	if e.Modified.Set() {
		at, ok := fill.ParseDate(e.Modified.S)
		if !ok {
			d.add(diag.SeverityError, e.Modified.Pos, "date", fmt.Sprintf("%q is not a date", e.Modified.S),
				"write 2031-04-02 or 2031-04-02T14:20")
		}
		e.At = at
	}
}

// undeclared is how the compiler of expressions names a word that it does not know.
var undeclared = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`undeclared reference to '([A-Za-z0-9_]+)'`) })
