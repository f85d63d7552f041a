package advice

import (
	"fmt"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"

	"stilltide/internal/core/fill"
	"stilltide/internal/core/rule"
)

// patternDoubts doubts patterns that fit less than they seem to.
func patternDoubts(r *rule.Rule, warn warning) {
	for _, m := range r.Match {
		body := strings.TrimPrefix(m.S, "!")
		switch {
		case strings.HasPrefix(body, "re:"):
		case severalInOne().MatchString(body):
			warn(m.Pos, "pattern", fmt.Sprintf("%q is one pattern, and looks like several", m.S),
				"write a list: "+asList(body))
		case exactWord(body) && !r.Folded():
			warn(m.Pos, "pattern", fmt.Sprintf("%q fits only a file with exactly this name", m.S),
				fmt.Sprintf("did you mean \"*%s*\"?", body))
		case strings.Contains(body, "/") && r.Levels() == 0 && !r.Folded():
			warn(m.Pos, "pattern", fmt.Sprintf("%q names folders, and the rule looks only in the watched folder itself",
				m.S), "add depth: all, or leave the folders out of the pattern")
		}
	}
}

// severalInOne fits a text of several patterns: *.a;*.b and .jpg .png and *.a, *.b.
var severalInOne = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`^(\*?\.\w+|\*\w*)(\s*[;,|]\s*|\s+)(\*?\.\w+|\*\w*)`)
})

// asList writes the patterns that stand in one text as a list.
func asList(body string) string {
	var quoted []string
	for _, p := range regexp.MustCompile(`[;,|\s]+`).Split(strings.TrimSpace(body), -1) {
		quoted = append(quoted, fmt.Sprintf("%q", p))
	}
	return "[" + strings.Join(quoted, ", ") + "]"
}

// usual are names without an ending that many folders have.
var usual = []string{"Makefile", "Dockerfile", "README", "LICENSE", "NOTICE", "AUTHORS", "CHANGELOG", "TODO", "VERSION"}

// exactWord reports whether a pattern is a plain word: it fits one name, which has no ending.
func exactWord(body string) bool {
	return body != "" && !strings.ContainsAny(body, "*?[]{}<>./") && !slices.Contains(usual, body)
}

// notFilled fits what other programs would fill in a path.
var notFilled = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`\$\{?[A-Za-z_]\w*\}?|^~[A-Za-z_][\w-]*(/|$)`)
})

// dateOutside fits a date's letter that stands outside braces.
var dateOutside = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`%[YmdHMSBbjyVG]`) })

// placeDoubts doubts what is written in folders, and is filled by nobody.
func placeDoubts(r *rule.Rule, warn warning) {
	doubt := func(p rule.Path) {
		if m := notFilled().FindString(p.S); m != "" {
			warn(p.Pos, "not-filled", fmt.Sprintf("nothing fills %s here, so it is part of a name", strings.Trim(m,
				"/")),
				"write ~ for your home folder, or name it under vars:")
		}
		outside := regexp.MustCompile(`\{[^{}]*\}`).ReplaceAllString(p.S, "")
		if m := dateOutside().FindString(outside); m != "" {
			warn(p.Pos, "not-filled", fmt.Sprintf("%s stands outside braces, so it is part of a name", m),
				fmt.Sprintf("write {modified:%s} or {now:%s}", m, m))
		}
	}
	for _, p := range r.Watch {
		doubt(p)
	}
	for _, place := range r.Places() {
		doubt(place.To)
	}
	for i := range r.Steps {
		if to := r.Steps[i].To; to != nil {
			doubt(*to)
		}
	}
}

// nameDoubts doubts names whose ending would have lost its dot.
func nameDoubts(r *rule.Rule, warn warning) {
	doubt := func(name *fill.Template, at rule.Pos) {
		if ref := name.BareEnding(); ref != nil {
			warn(at, "no-dot", ref.Raw+" is an ending without its dot, and none stands before it here",
				"write ."+ref.Raw)
		}
	}
	for _, place := range r.Places() {
		doubt(place.Name, place.As.Pos)
	}
	for i := range r.Steps {
		s := &r.Steps[i]
		at, ok := s.Keys["as"]
		if !ok {
			at = s.Keys["rename"]
		}
		doubt(s.Name, at)
	}
}

// besideFile fits a script's word that names a file beside the one it works on.
var besideFile = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`>\s*"?\$\{?(?:1|TIDE_FILE)\}?"?(\.\w+)`)
})

// ownResults doubts a command whose results the rule would take for new files.
func ownResults(r *rule.Rule, warn warning) {
	if r.Folded() {
		return
	}
	for i := range r.Steps {
		s := &r.Steps[i]
		if s.Command != nil {
			for _, w := range s.Command.Words[1:] {
				if name := resultName(r, w); name != "" && r.Matcher.Fits(name, name) {
					warn(s.Run.Pos, "own-result",
						fmt.Sprintf("what this command writes to %s would be taken by this rule, too",
							w.String()), "write it to {scratch} and place it from there, or add match:")
				}
			}
		}
		for _, m := range besideFile().FindAllStringSubmatch(s.Script.S, -1) {
			if name := "name.text" + m[1]; r.Matcher.Fits(name, name) {
				warn(s.Script.Pos, "own-result",
					"what this script writes beside its file would be taken by this rule, too",
					"write it to \"$TIDE_SCRATCH\" and place it from there, or add match:")
			}
		}
	}
}

// resultName is the name of a file that a word of a command puts into the watched folder, made
// from the name of a sample; "" if it names none that is not the input itself.
func resultName(r *rule.Rule, w *fill.Template) string {
	refs, text := w.Refs(), w.String()
	if len(refs) == 0 || len(r.Folders) == 0 {
		return ""
	}
	sample := filepath.Join(r.Folders[0], "name.text")
	filled, err := w.Fill(func(word string) (fill.Value, error) {
		known := map[string]string{"file": sample, "name": "name.text", "stem": "name", "ext": "text",
			"rel":    "name.text",
			"folder": r.Folders[0], "watch": r.Folders[0]}
		value, ok := known[word]
		if !ok {
			return fill.Value{}, fmt.Errorf("%s is not known", word)
		}
		return fill.Text(value), nil
	})
	if err != nil || text == "{file}" || filled == sample {
		return ""
	}
	if filled = strings.TrimPrefix(filled, "--output="); !filepath.IsAbs(filled) {
		filled = filepath.Join(filepath.Dir(r.Pos.File), filled)
	}
	if filepath.Dir(filled) != r.Folders[0] {
		return ""
	}
	return filepath.Base(filled)
}
