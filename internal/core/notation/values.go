package notation

import (
	"strconv"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"

	"stilltide/internal/core/fill"
	"stilltide/internal/core/rule"
)

func readText(d *decoder, n ast.Node, t *rule.Text) {
	s, ok := d.scalar(n)
	if !ok {
		d.errorAt(n, "type", "this value must be a text, and this is "+nodeWord(n), d.asOneText(n))
		return
	}
	*t = rule.Text{S: s, Pos: d.pos(n)}
}

// asOneText is a hint for a command that was written as a list, or an address without quotes; ""
// for anything else.
func (d *decoder) asOneText(n ast.Node) string {
	if nodeWord(n) == "a mapping" && strings.Contains(n.String(), "://") {
		return "put the address in quotes, because of its colons"
	}
	list, ok := n.(*ast.SequenceNode)
	key := n.GetPath()[strings.LastIndexByte(n.GetPath(), '.')+1:]
	if !ok || key != "run" && key != "command" {
		return ""
	}
	var words []string
	for _, item := range list.Values {
		word, ok := d.scalar(d.resolve(item))
		if !ok {
			return ""
		}
		words = append(words, word)
	}
	line, err := yaml.Marshal(fill.Line(words))
	if err != nil {
		return ""
	}
	return "write the words in one line: " + key + ": " + strings.TrimSpace(string(line))
}

func readPath(d *decoder, n ast.Node, p *rule.Path) {
	readText(d, n, &p.Text)
	p.S, p.Base = rule.AtHome(p.S, d.on.Home), d.base
	if p.Set() && p.S == "" {
		d.errorAt(n, "empty", "this path is empty", `write . for the folder of the rules file`)
	}
}

func readDuration(d *decoder, n ast.Node, v *rule.Duration) {
	s, ok := d.scalar(n)
	if !ok {
		d.wrongType(n, "a time", "a text such as 2s")
		return
	}
	t, err := rule.ParseDuration(s)
	if err != nil {
		d.errorAt(n, "time", err.Error(), "write a number with its unit: ms, s, m, h, d or w")
		return
	}
	*v = rule.Duration{Duration: t, Pos: d.pos(n)}
}

func readPlace(d *decoder, n ast.Node, p *rule.Place) {
	if _, ok := d.scalar(n); ok {
		*p = rule.Place{}
		readPath(d, n, &p.To)
		return
	}
	var long struct {
		To rule.Path `key:"to"`
		As rule.Text `key:"as"`
	}
	d.into(n, reflectOf(&long), "a destination")
	if !long.To.Set() {
		d.lacks(d.pos(n), "a destination needs to: and a folder", "")
	}
	*p = rule.Place{To: long.To, As: long.As}
}

func readRetry(d *decoder, n ast.Node, r *rule.Retry) {
	if i, ok := n.(*ast.IntegerNode); ok {
		d.into(i, reflectOf(&r.Times), "retry")
		return
	}
	*r = rule.DefaultRetry()
	type plain rule.Retry
	d.into(n, reflectOf((*plain)(r)), "retry")
	if r.Factor < 1 {
		d.errorAt(n, "range", "factor must be at least 1, so that no wait is shorter than the one before",
			"leave it out for 2, or write 1 for the same wait each time")
	}
	if r.Jitter < 0 || r.Jitter > 0.3 {
		d.errorAt(n, "range", "jitter must be from 0 to 0.3", "leave it out for 0.1")
	}
	if r.Delay.Duration <= 0 && r.Times > 0 {
		d.errorAt(n, "range", "delay must be longer than 0", "leave it out for 2s")
	}
}

func readNumber(d *decoder, n ast.Node, v *rule.Number) {
	s, ok := d.scalar(n)
	f, err := strconv.ParseFloat(s, 64)
	if !ok || err != nil {
		d.wrongType(n, "this value", "a number")
		return
	}
	*v = rule.Number(f)
}
