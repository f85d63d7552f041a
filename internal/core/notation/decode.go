package notation

import (
	"errors"
	"fmt"
	"maps"
	"path/filepath"
	"reflect"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"stilltide/internal/core/diag"
	"stilltide/internal/core/expr"
	"stilltide/internal/core/pattern"
	"stilltide/internal/core/rule"
)

// decoder walks the YAML tree and a Go value side by side. It never stops at
// an error: what can be read is read, and every error is noted with its place.
//
// The struct tags are the model: `key` names a key, `doc` describes it for
// the reference. What the decoder accepts is therefore what the reference says.
type decoder struct {
	entries  entries
	file     string
	base     string // folder that relative paths start at
	on       rule.Machine
	lines    []string
	anchors  map[string]ast.Node
	words    map[string]string // the file's own placeholders
	channels []string          // the names of its channels
	merging  int               // merge keys that are being followed, one inside the other
	depth    int               // values inside values
	unread   map[rule.Pos]bool // mappings in which a key was not read
	diags    diag.List

	lists map[string]*pattern.List // compiled patterns, by their texts: many rules have the same
	envs  map[string]expr.Env      // what expressions may name, by a rule's captures
}

// deepest bounds values inside values and merge keys inside merge keys: an
// alias may stand inside what it names.
const deepest = 40

// readers read the values that have a notation of their own, by their types.
var readers map[reflect.Type]func(d *decoder, n ast.Node, v any)

func init() {
	readers = map[reflect.Type]func(*decoder, ast.Node, any){}
	reads(readAgain)
	reads(readAgeRange)
	reads(readCodeRange)
	reads(readDepth)
	reads(readDuration)
	reads(readEncryption)
	reads(readEvent)
	reads(readExisting)
	reads(readGroupOverdue)
	reads(readLoops)
	reads(readNumber)
	reads(readOccasion)
	reads(readOrder)
	reads(readOverdue)
	reads(readPath)
	reads(readPercent)
	reads(readPlace)
	reads(readPoll)
	reads(readRate)
	reads(readReady)
	reads(readRetry)
	reads(readRunning)
	reads(readWhileAway)
	reads(readSameName)
	reads(readSave)
	reads(readSchedule)
	reads(readSize)
	reads(readSizeRange)
	reads(readStdin)
	reads(readText)
	reads(readUnit)
	reads(readWritersMode)
	reads(func(d *decoder, n ast.Node, v *rule.Where) { readText(d, n, &v.Text) })
	reads(readEntries)
}

// reads notes how the values of a type are read.
func reads[T any](read func(*decoder, ast.Node, *T)) {
	readers[reflect.TypeFor[T]()] = func(d *decoder, n ast.Node, v any) { read(d, n, v.(*T)) }
}

func newDecoder(file string, on rule.Machine, src []byte) *decoder {
	return &decoder{file: file, base: filepath.Dir(file), on: on, lines: strings.Split(string(src), "\n"),
		anchors: map[string]ast.Node{}, unread: map[rule.Pos]bool{}}
}

// tree parses the text. Nil means that there is nothing to decode; the reason is noted.
func (d *decoder) tree(src []byte) ast.Node {
	f, err := parser.ParseBytes(src, 0, parser.AllowDuplicateMapKey())
	if err != nil {
		d.syntaxError(err)
		return nil
	}
	if len(f.Docs) > 1 && f.Docs[1].Body != nil {
		d.errorAt(f.Docs[1].Body, "yaml", "a rules file is one YAML document, and here begins a second",
			"remove the --- line")
	}
	if len(f.Docs) == 0 || f.Docs[0].Body == nil {
		d.errorAtLine(1, 1, "empty", "the rules file is empty", "stilltide init writes one to begin with")
		return nil
	}
	return f.Docs[0].Body
}

func (d *decoder) syntaxError(err error) {
	var se *yaml.SyntaxError
	if errors.As(err, &se) && se.Token != nil {
		p := se.Token.Position
		if s, ok := diag.SlipIn(d.lines, p.Line); ok {
			d.errorAtLine(p.Line, s.Column, "yaml", s.Message, s.Hint)
			return
		}
		d.errorAtLine(p.Line, p.Column, "yaml", "this is not YAML: "+se.Message, "")
		return
	}
	d.errorAtLine(1, 1, "yaml", "this is not YAML: "+err.Error(), "")
}

func (d *decoder) pos(n ast.Node) rule.Pos {
	// A mapping's own token is its first colon; people look at its first key.
	switch v := n.(type) {
	case *ast.MappingNode:
		if len(v.Values) > 0 && !v.IsFlowStyle {
			return d.pos(v.Values[0].Key)
		}
	case *ast.MappingValueNode:
		return d.pos(v.Key)
	}
	p := n.GetToken().Position
	return rule.Pos{File: d.file, Line: p.Line, Column: p.Column}
}

func (d *decoder) errorAt(n ast.Node, code, message, hint string) {
	p := d.pos(n)
	d.errorAtLine(p.Line, p.Column, code, message, hint)
}

func (d *decoder) errorAtLine(line, column int, code, message, hint string) {
	d.add(diag.SeverityError, rule.Pos{File: d.file, Line: line, Column: column}, code, message, hint)
}

func (d *decoder) add(s diag.Severity, at rule.Pos, code, message, hint string) {
	if at.Line == 0 && d.diags.Failed() {
		return // it follows from what is wrong already: a value of the wrong type has no place
	}
	if at.Line == 0 { // a default that stands nowhere
		at = rule.Pos{File: d.file, Line: 1, Column: 1}
	}
	quote := ""
	if at.Line >= 1 && at.Line <= len(d.lines) {
		quote = strings.TrimRight(d.lines[at.Line-1], "\r")
	}
	d.diags = append(d.diags, diag.Diagnostic{Pos: at, Severity: s, Code: code, Message: message, Hint: hint,
		Quote: quote})
}

// errorIn points at the part `near` of a text, if it can be found from the
// text's place on; otherwise at the text itself.
func (d *decoder) errorIn(t rule.Text, near, code, message, hint string) {
	d.add(diag.SeverityError, d.find(t.Pos, near), code, message, hint)
}

func (d *decoder) find(at rule.Pos, near string) rule.Pos {
	near, _, _ = strings.Cut(near, "\n")
	if near == "" {
		return at
	}
	for i := at.Line; i >= 1 && i <= len(d.lines) && i < at.Line+200; i++ {
		line, skip := d.lines[i-1], 0
		if i == at.Line {
			runes := []rune(line)
			head := string(runes[:min(at.Column-1, len(runes))])
			line, skip = line[len(head):], len([]rune(head))
		}
		if j := strings.Index(line, near); j >= 0 {
			return rule.Pos{File: at.File, Line: i, Column: skip + len([]rune(line[:j])) + 1}
		}
	}
	return at
}

// resolve follows anchors, aliases and tags to the node that counts.
func (d *decoder) resolve(n ast.Node) ast.Node {
	for range 50 {
		switch v := n.(type) {
		case *ast.AnchorNode:
			d.anchors[v.Name.GetToken().Value] = v.Value
			n = v.Value
		case *ast.AliasNode:
			target := d.anchors[v.Value.GetToken().Value]
			if target == nil {
				name := v.Value.GetToken().Value
				d.errorAt(n, "alias", "a * at the beginning of a value is an alias in YAML, and no anchor named &"+
					name+" stands before this", "for a pattern quote it: "+diag.Quoted("*"+name))
				return nil
			}
			n = target
		case *ast.TagNode:
			if tag := v.GetToken().Value; !strings.HasPrefix(tag, "!!") {
				d.errorAt(n, "yaml", "a ! at the beginning of a value is a tag in YAML",
					"quote it: "+diag.Quoted(d.restOfLine(d.pos(n))))
				return nil
			}
			n = v.Value
		default:
			return n
		}
	}
	return n
}

// restOfLine is what stands in a line from a place on, up to a comment.
func (d *decoder) restOfLine(at rule.Pos) string {
	if at.Line < 1 || at.Line > len(d.lines) {
		return ""
	}
	runes := []rune(d.lines[at.Line-1])
	rest, _, _ := strings.Cut(string(runes[min(at.Column-1, len(runes)):]), " #")
	return strings.TrimRight(rest, " ,]}\r")
}

// pairs returns the entries of a mapping, merge keys (<<) included.
func (d *decoder) pairs(n ast.Node) ([]*ast.MappingValueNode, bool) {
	switch v := n.(type) {
	case *ast.MappingNode:
		return d.merged(v.Values), true
	case *ast.MappingValueNode:
		return d.merged([]*ast.MappingValueNode{v}), true
	}
	return nil, false
}

func (d *decoder) merged(values []*ast.MappingValueNode) []*ast.MappingValueNode {
	var out, own []*ast.MappingValueNode
	for _, v := range values {
		if _, ok := v.Key.(*ast.MergeKeyNode); !ok {
			own = append(own, v)
			continue
		}
		if d.merging > deepest {
			d.errorAt(v.Key, "alias", "this merge key leads to itself", "name another anchor")
			continue
		}
		d.merging++
		if inner, ok := d.pairs(d.resolve(v.Value)); ok {
			out = append(out, inner...)
		}
		d.merging--
	}
	if len(out) == 0 {
		return own
	}
	named := map[string]bool{}
	for _, v := range own {
		named[v.Key.GetToken().Value] = true
	}
	for _, v := range out {
		if !named[v.Key.GetToken().Value] {
			own = append(own, v)
		}
	}
	return own
}

// scalar returns the text of a plain value.
func (d *decoder) scalar(n ast.Node) (string, bool) {
	switch v := n.(type) {
	case *ast.StringNode:
		return v.Value, true
	case *ast.LiteralNode:
		return v.Value.Value, true
	case *ast.IntegerNode, *ast.FloatNode, *ast.BoolNode, *ast.InfinityNode, *ast.NanNode:
		return n.GetToken().Value, true
	}
	return "", false
}

// into decodes a node into a value; what names the value in messages.
func (d *decoder) into(n ast.Node, v reflect.Value, what string) {
	if v.Kind() == reflect.Pointer {
		v.Set(reflect.New(v.Type().Elem())) // never write through a default's pointer
		v = v.Elem()
	}
	if n = d.resolve(n); n == nil {
		return
	}
	if d.depth > deepest {
		d.errorAt(n, "alias", what+" is nested too deeply, or an alias stands inside what it names", "")
		return
	}
	d.depth++
	defer func() { d.depth-- }()
	if _, ok := n.(*ast.NullNode); ok {
		d.errorAt(n, "empty", what+" has no value", "write one, or remove the key")
		return
	}
	if read := readers[v.Type()]; read != nil {
		read(d, n, v.Addr().Interface())
		return
	}
	switch v.Kind() {
	case reflect.Struct:
		d.intoStruct(n, v, what)
	case reflect.Slice:
		d.intoSlice(n, v, what)
	case reflect.Map:
		d.intoMap(n, v, what)
	case reflect.String:
		if one, ok := v.Interface().(rule.OneOf); ok {
			v.SetString(choose(d, n, what, one.Words()...))
			return
		}
		if s, ok := d.scalar(n); ok {
			v.SetString(s)
			return
		}
		d.wrongType(n, what, "a text")
	case reflect.Bool:
		if b, ok := n.(*ast.BoolNode); ok {
			v.SetBool(b.Value)
			return
		}
		d.wrongType(n, what, "true or false")
	case reflect.Int, reflect.Int64:
		d.intoInt(n, v, what)
	default:
		panic("rule: no way to decode a " + v.Type().String())
	}
}

func (d *decoder) wrongType(n ast.Node, what, want string) {
	d.errorAt(n, "type", fmt.Sprintf("%s must be %s, and this is %s", what, want, nodeWord(n)), "")
}

// fewKeys is how many keys a hint lists at most.
const fewKeys = 8

func (d *decoder) noMapping(n ast.Node, v reflect.Value, what string) {
	hint := ""
	if names := slices.Sorted(maps.Keys(rule.FieldsOf(v.Type()))); len(names) <= fewKeys {
		hint = "the keys here are " + strings.Join(names, ", ")
	}
	d.errorAt(n, "type", fmt.Sprintf("%s must be a mapping of keys, and this is %s", what, nodeWord(n)), hint)
}

func nodeWord(n ast.Node) string {
	switch n.(type) {
	case *ast.MappingNode, *ast.MappingValueNode:
		return "a mapping"
	case *ast.SequenceNode:
		return "a list"
	case *ast.BoolNode:
		return "true or false"
	case *ast.IntegerNode, *ast.FloatNode:
		return "a number"
	case *ast.NullNode:
		return "nothing"
	}
	return "a text"
}

func (d *decoder) intoInt(n ast.Node, v reflect.Value, what string) {
	if i, ok := n.(*ast.IntegerNode); ok {
		switch x := i.Value.(type) {
		case uint64:
			if x <= 1<<31 {
				v.SetInt(int64(x))
				return
			}
		case int64:
			if x < 0 {
				d.errorAt(n, "range", what+" cannot be less than 0", "")
				return
			}
		}
	}
	d.wrongType(n, what, "a whole number")
}

func (d *decoder) intoSlice(n ast.Node, v reflect.Value, what string) {
	items := []ast.Node{n} // a single value stands for a list of one
	if list, ok := n.(*ast.SequenceNode); ok {
		items = list.Values
	}
	v.Set(reflect.MakeSlice(v.Type(), len(items), len(items)))
	for i, item := range items {
		name := what
		if len(items) > 1 {
			name = fmt.Sprintf("entry %d of %s", i+1, what)
		}
		d.into(item, v.Index(i), name)
	}
}

func (d *decoder) intoMap(n ast.Node, v reflect.Value, what string) {
	pairs, ok := d.pairs(n)
	if !ok {
		d.wrongType(n, what, "a mapping")
		return
	}
	fresh := reflect.MakeMap(v.Type()) // never write into a default's map
	for _, key := range v.MapKeys() {
		fresh.SetMapIndex(key, v.MapIndex(key))
	}
	v.Set(fresh)
	for _, p := range pairs {
		key := p.Key.GetToken().Value
		item := reflect.New(v.Type().Elem()).Elem()
		d.into(p.Value, item, what+"."+key)
		v.SetMapIndex(reflect.ValueOf(key).Convert(v.Type().Key()), item)
	}
}

func (d *decoder) intoStruct(n ast.Node, v reflect.Value, what string) {
	pairs, ok := d.pairs(n)
	if !ok {
		d.noMapping(n, v, what)
		return
	}
	if place, ok := v.Addr().Interface().(interface{ SetPos(rule.Pos) }); ok {
		place.SetPos(d.pos(n))
	}
	noter, _ := v.Addr().Interface().(interface{ NoteKey(string, rule.Pos) })
	fields := rule.FieldsOf(v.Type())
	step, isStep := v.Addr().Interface().(*rule.Step)
	if isStep {
		fields = stepKeys()
	}
	keys := d.asMeant(n, pairs, what, fields)
	var own map[string]reflect.Value // the keys that the verb of a step has of its own
	if isStep {
		own = begin(step, keys)
	}
	seen := map[string]rule.Pos{}
	for i, p := range pairs {
		key := keys[i]
		if key == "" {
			continue
		}
		if first, ok := seen[key]; ok {
			d.errorAt(p.Key, "twice", fmt.Sprintf("%s stands twice; the first is on line %d", key, first.Line),
				"keep one of them")
			continue
		}
		seen[key] = d.pos(p.Key)
		if noter != nil {
			noter.NoteKey(key, seen[key])
		}
		if value, ok := own[key]; ok {
			d.into(p.Value, value, key)
			continue
		}
		d.into(p.Value, v.FieldByIndex(fields[key]), key)
	}
}
