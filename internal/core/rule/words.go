package rule

import (
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"

	"stilltide/internal/core/pattern"
)

// Words are placeholders with a fixed text, for all rules of a file.
type Words map[string]Text

// LocalName gives the file that may hold a machine's own words, for a rules
// file: stilltide.local.yaml beside stilltide.yaml.
func LocalName(path string) string {
	return strings.TrimSuffix(path, filepath.Ext(path)) + ".local.yaml"
}

// fixedWords reads the words of the file and of this machine, which win.
func (d *decoder) fixedWords(f *File, load Load) {
	d.words = map[string]string{}
	d.takeWords(f.Words)
	path := LocalName(f.Path)
	sources, err := load(path)
	if err != nil {
		return // there is none
	}
	for _, src := range sources {
		f.Included = append(f.Included, src.Path)
		inner := newDecoder(src.Path, filepath.Dir(src.Path), src.Text)
		var local struct {
			Version int   `key:"version"`
			Words   Words `key:"words"`
		}
		if root := inner.tree(src.Text); root != nil {
			inner.into(root, reflectOf(&local), "a machine's own words")
			inner.words = d.words
			inner.takeWords(local.Words)
		}
		d.diags = append(d.diags, inner.diags...)
	}
}

func (d *decoder) takeWords(words Words) {
	for _, name := range slices.Sorted(maps.Keys(words)) {
		t := words[name]
		if !pattern.ValidName(name) || isBuiltIn(name) || name == "files" || name == "list" || name == "list0" {
			d.add(SeverityError, t.Pos, "words", fmt.Sprintf("%q cannot name a word", name), "use a-z, 0-9 and _, beginning with a letter, and no word that is there already")
			continue
		}
		d.words[name] = t.S
	}
}

// put puts the file's words into a path that is no template.
func (d *decoder) put(p Path) Path {
	for name, value := range d.words {
		p.S = strings.ReplaceAll(p.S, "{"+name+"}", value)
	}
	return p
}

// putAll puts them into the folders that a rule watches.
func (d *decoder) putAll(paths []Path) []Path {
	if len(d.words) == 0 {
		return paths
	}
	filled := make([]Path, len(paths))
	for i, p := range paths {
		filled[i] = d.put(p)
	}
	return filled
}
