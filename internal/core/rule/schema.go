package rule

import "reflect"

// Schema makes the JSON Schema (2020-12) of the rules file, from the same
// struct tags that the decoder reads, so that the two cannot differ.
func Schema() map[string]any {
	defs := map[string]any{}
	root := objectSchema(reflect.TypeFor[File](), defs)
	root["$schema"] = "https://json-schema.org/draft/2020-12/schema"
	root["title"] = "Rules file of Still Tide"
	root["required"] = []string{"version"}
	root["$defs"] = defs
	return root
}

// schemer is implemented by values with a notation of their own.
type schemer interface{ schema() map[string]any }

func objectSchema(t reflect.Type, defs map[string]any) map[string]any {
	properties := map[string]any{}
	for _, f := range reflect.VisibleFields(t) {
		key := f.Tag.Get("key")
		if key == "" {
			continue
		}
		s := typeSchema(f.Type, defs)
		if doc := f.Tag.Get("doc"); doc != "" {
			s = merge(s, map[string]any{"description": doc})
		}
		properties[key] = s
	}
	return map[string]any{"type": "object", "properties": properties, "additionalProperties": false}
}

func typeSchema(t reflect.Type, defs map[string]any) map[string]any {
	if s, ok := reflect.Zero(t).Interface().(schemer); ok {
		return s.schema()
	}
	if t.Kind() == reflect.Pointer {
		return typeSchema(t.Elem(), defs)
	}
	switch t {
	case reflect.TypeFor[rawRules]():
		return map[string]any{"type": "array", "items": ref(reflect.TypeFor[Rule](), defs)}
	case reflect.TypeFor[Rule]():
		return ref(t, defs)
	case reflect.TypeFor[Place](), reflect.TypeFor[*Place]():
		long := map[string]any{"type": "object", "required": []string{"to"}, "additionalProperties": false,
			"properties": map[string]any{"to": text(), "as": text()}}
		return map[string]any{"anyOf": []any{text(), long}}
	case reflect.TypeFor[Retry]():
		return map[string]any{"anyOf": []any{map[string]any{"type": "integer", "minimum": 0}, objectSchema(t, defs)}}
	}
	switch t.Kind() {
	case reflect.Slice:
		item := typeSchema(t.Elem(), defs)
		return map[string]any{"anyOf": []any{item, map[string]any{"type": "array", "items": item}}}
	case reflect.Map:
		return map[string]any{"type": "object", "additionalProperties": typeSchema(t.Elem(), defs)}
	case reflect.Struct:
		return objectSchema(t, defs)
	case reflect.Bool:
		return map[string]any{"type": "boolean"}
	case reflect.Int:
		return map[string]any{"type": "integer", "minimum": 0}
	}
	return text()
}

// ref keeps a large type once, under $defs.
func ref(t reflect.Type, defs map[string]any) map[string]any {
	if _, ok := defs[t.Name()]; !ok {
		defs[t.Name()] = map[string]any{} // ends the recursion
		defs[t.Name()] = objectSchema(t, defs)
	}
	return map[string]any{"$ref": "#/$defs/" + t.Name()}
}

// text is any plain value: YAML reads 5 or true where a text is meant.
func text() map[string]any {
	return map[string]any{"type": []string{"string", "number", "boolean"}}
}

func words(list ...string) map[string]any {
	values := make([]any, len(list))
	for i, w := range list {
		values[i] = w
	}
	return map[string]any{"enum": values}
}

func merge(a, b map[string]any) map[string]any {
	out := map[string]any{}
	for k, v := range a {
		out[k] = v
	}
	for k, v := range b {
		out[k] = v
	}
	return out
}

const timePattern = `^(0|([0-9.]+(ms|s|m|h|d|w))+)$`

func (Text) schema() map[string]any { return text() }
func (Path) schema() map[string]any { return text() }
func (Schedule) schema() map[string]any {
	return map[string]any{"type": "string"}
}
func (Where) schema() map[string]any { return text() }
func (CodeRange) schema() map[string]any {
	return map[string]any{"anyOf": []any{map[string]any{"type": "integer", "minimum": 0}, map[string]any{"type": "string", "pattern": `^[0-9]+(\.\.[0-9]+)?$`}}}
}
func (Percent) schema() map[string]any {
	return map[string]any{"type": "string", "pattern": `^[0-9]{1,2}(\.[0-9]+)? *%$`}
}
func (Number) schema() map[string]any {
	return map[string]any{"type": "number"}
}
func (Duration) schema() map[string]any {
	return map[string]any{"anyOf": []any{map[string]any{"type": "string", "pattern": timePattern}, map[string]any{"const": 0}}}
}
func (Poll) schema() map[string]any {
	return map[string]any{"anyOf": []any{words("auto"), map[string]any{"type": "string", "pattern": timePattern}}}
}
func (Depth) schema() map[string]any {
	return map[string]any{"anyOf": []any{words("all"), map[string]any{"type": "integer", "minimum": 0}}}
}
func (Size) schema() map[string]any {
	return map[string]any{"anyOf": []any{map[string]any{"type": "string"}, map[string]any{"type": "integer", "minimum": 0}}}
}
func (SizeRange) schema() map[string]any {
	return map[string]any{"type": "string", "pattern": `\.\.`}
}
func (AgeRange) schema() map[string]any {
	return map[string]any{"type": "string", "pattern": `\.\.`}
}
func (Rate) schema() map[string]any {
	return map[string]any{"type": "string", "pattern": `^ *[0-9]+ in .+$`}
}
func (Unit) schema() map[string]any         { return words("file", "folder") }
func (Event) schema() map[string]any        { return words("added", "changed", "removed") }
func (Running) schema() map[string]any      { return words("finish_first", "stop_old", "own_work") }
func (WritersMode) schema() map[string]any  { return words("wait", "ignore") }
func (Overdue) schema() map[string]any      { return words("wait", "fail", "take") }
func (GroupOverdue) schema() map[string]any { return words("fail", "take") }
func (Again) schema() map[string]any        { return words("changed", "never", "always") }
func (Loops) schema() map[string]any        { return words("stop", "allow") }
func (Order) schema() map[string]any {
	return words("arrival", "name", "oldest", "newest", "smallest")
}
func (SameName) schema() map[string]any { return words("number", "replace", "skip", "fail") }
func (Discard) schema() map[string]any  { return words("trash", "delete") }
func (Keep) schema() map[string]any     { return words("new", "smaller") }
func (Stdin) schema() map[string]any    { return words("file") }
func (Occasion) schema() map[string]any {
	return words("failed", "processed", "caught_up", "overdue", "blocked", "unmatched")
}
func (Encryption) schema() map[string]any {
	return words("starttls_if_offered", "starttls", "implicit_tls", "none")
}
func (Existing) schema() map[string]any { return words("take", "leave") }
