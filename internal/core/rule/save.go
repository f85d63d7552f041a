package rule

import (
	"fmt"
	"strings"

	"github.com/goccy/go-yaml/ast"
)

// Save says which words a step leaves to later ones: one for all that it printed, or some for
// fields of the JSON text that this is.
type Save struct {
	Words []Text
	// Fields has the field of each word, as names and numbers joined by dots (data.items.0.id);
	// nil if the one word is for all.
	Fields []string
}

// Set reports whether anything is saved.
func (v *Save) Set() bool { return len(v.Words) > 0 }

func readSave(d *decoder, n ast.Node, v *Save) {
	pairs, isMap := d.pairs(n)
	if !isMap {
		var word Text
		readText(d, n, &word)
		v.Words = []Text{word}
		return
	}
	for _, p := range pairs {
		word := Text{S: p.Key.String(), Pos: d.pos(p.Key)}
		field, ok := d.scalar(d.resolve(p.Value))
		if !ok || strings.Trim(field, ".") == "" {
			d.errorAt(p.Value, "save", fmt.Sprintf("save: %s needs the field of the answer that it stands for", word.S),
				"write it as data.id: names and numbers with dots between")
			continue
		}
		v.Words, v.Fields = append(v.Words, word), append(v.Fields, field)
	}
}

const savedPattern = "^[a-z][a-z0-9_]*$"
