package notation

import (
	"fmt"
	"strings"

	"stilltide/internal/core/rule"

	"github.com/goccy/go-yaml/ast"
)

func readSave(d *decoder, n ast.Node, v *rule.Save) {
	pairs, isMap := d.pairs(n)
	if !isMap {
		var word rule.Text
		readText(d, n, &word)
		v.Words = []rule.Text{word}
		return
	}
	for _, p := range pairs {
		word := rule.Text{S: p.Key.String(), Pos: d.pos(p.Key)}
		field, ok := d.scalar(d.resolve(p.Value))
		if !ok || strings.Trim(field, ".") == "" {
			d.errorAt(p.Value, "save", fmt.Sprintf("save: %s needs the field of the answer that it stands for", word.S),
				"write it as data.id: names and numbers with dots between")
			continue
		}
		v.Words, v.Fields = append(v.Words, word), append(v.Fields, field)
	}
}
