// Package schema describes the notation of the rules file, for editors as a JSON Schema and for
// people as the tables of the reference. Both come from the struct tags of the model and from what
// is said of each type's values here.
package schema

import (
	"reflect"
	"strconv"
	"strings"

	"stilltide/internal/core/notation"
	"stilltide/internal/core/rule"
)

// Rules makes the JSON Schema (2020-12) of the rules file, from the same struct tags that
// the decoder reads. It refuses what check refuses as far as JSON Schema can say it: what
// depends on other files, on names that must be known, or on the order of two values is
// left to check. It says one type at a time, so that a strict validator takes it.
func Rules() map[string]any {
	defs := map[string]any{}
	root := objectSchema(reflect.TypeFor[rule.File](), defs)
	root["$schema"] = "https://json-schema.org/draft/2020-12/schema"
	root["title"] = "Rules file of Still Tide"
	root["required"] = []string{"version"}
	root["properties"].(map[string]any)["version"] = described("const", 1, "the version of this notation: 1")
	ref(reflect.TypeFor[rule.Rule](), defs)
	defaults := merge(defs["Rule"].(map[string]any))
	defaults["properties"] = without(defaults["properties"].(map[string]any), "name")
	defs["Defaults"] = defaults
	root["properties"].(map[string]any)["defaults"] = merge(reference("Defaults"),
		description("any rule key; a rule's own wins"))
	defs["Rule"] = merge(defs["Rule"].(map[string]any), required("name"))
	root["if"] = merge(required("defaults"),
		properties("defaults", merge(required("watch"), properties("watch", true), object())), object())
	root["else"] = merge(properties("rules",
		map[string]any{"type": "array", "items": merge(required("watch"), properties("watch", true), object())}),
		object())
	root["$defs"] = defs
	return root
}

func objectSchema(t reflect.Type, defs map[string]any) map[string]any {
	properties := map[string]any{}
	for _, f := range reflect.VisibleFields(t) {
		if key := f.Tag.Get("key"); key != "" {
			properties[key] = fieldSchema(t, f, defs)
		}
	}
	s := map[string]any{"type": "object", "properties": properties, "additionalProperties": false}
	if more := together[t]; more != nil {
		s = merge(s, more())
	}
	return s
}

// fieldSchema is the schema of one key, with its description and its default.
func fieldSchema(t reflect.Type, f reflect.StructField, defs map[string]any) map[string]any {
	key := f.Tag.Get("key")
	s := typeSchema(f.Type, defs)
	if own := keySchemas[t.Name()+"."+key]; own != nil {
		s = own()
	}
	if re := f.Tag.Get("fits"); re != "" {
		s = anyOf(fitting(re), number(), boolean()) // YAML reads 5 or true where a text is meant
	}
	if re := f.Tag.Get("pattern"); re != "" {
		s = fitting(re)
	}
	if f.Type.Kind() == reflect.Slice && f.Tag.Get("fits") != "" {
		s = listOf(s)
	}
	s = merge(s, description(f.Tag.Get("doc")))
	if text := f.Tag.Get("default"); text != "" {
		s["default"] = valueOf(text)
	}
	if value, ok := defaultOf[t.Name()+"."+key]; ok {
		s["default"] = value
	}
	return s
}

// valueOf reads a default as YAML would.
func valueOf(text string) any {
	if n, err := strconv.Atoi(text); err == nil {
		return n
	}
	if b, err := strconv.ParseBool(text); err == nil {
		return b
	}
	return text
}

// defaultOf has what a key stands for that is left out, where that is one value.
var defaultOf = map[string]any{
	"File.state_folder": ".stilltide", "File.keep_replaced": "1GB", "File.keep_history": "90d",
	"Queue.priority": 0,
	"Rule.depth":     0, "Rule.unit": "file", "Rule.events": []string{"added", "changed"}, "Rule.match": "*",
	"Rule.hidden": false, "Rule.ignore_case": false,
	"Rule.existing": "take", "Rule.share": false, "Rule.enabled": true, "Rule.debounce": "500ms",
	"Rule.poll": "auto", "Rule.while_running": "finish_first", "Rule.while_away": "hold",
	"Rule.retry": 2, "Rule.again": "changed", "Rule.loops": "stop", "Rule.same_name": "number",
	"Rule.order": "arrival", "Rule.examples": []string{},
	"Ready.writers": "wait", "Ready.min_size": 0, "Ready.overdue": "wait",
	"Batch.max_wait": "1m", "Group.overdue": "fail",
	"Retry.times": 2, "Retry.delay": "2s", "Retry.factor": 2, "Retry.max_delay": "10m", "Retry.jitter": 0.1,
	"Retry.after_crash": true,
	"Channel.digest":    "10s", "Mail.encryption": "starttls_if_offered", "Example.event": "added",
	"Example.size": 0,
}

// keySchemas are those of keys that are narrower than their type.
var keySchemas = map[string]func() map[string]any{
	"File.workers":  func() map[string]any { return map[string]any{"type": "integer", "minimum": 0} },
	"File.listen":   func() map[string]any { return fitting(`^(localhost|127\.[0-9.]+|\[::1\]):[0-9]+$`) },
	"Rule.name":     func() map[string]any { return anyOf(fitting(namePattern), integer()) },
	"Rule.old_name": func() map[string]any { return anyOf(fitting(namePattern), integer()) },
	"Rule.pool":     func() map[string]any { return fitting(notation.PoolPattern) },
	"Fleet.server": func() map[string]any {
		return anyOf(fitting(notation.ServerPattern), filled(fitting(notation.ServerPattern)))
	},
	"Rule.media_type": func() map[string]any { return listOf(fitting(`^[^/]+/[^/]+$`)) },
	"Rule.schedule":   func() map[string]any { return fitting(`^\s*(\S+\s+){4}\S+(\s+\S+)?\s*$`) },
	"Rule.serial_by": func() map[string]any {
		return anyOf(map[string]any{"type": "string", "not": words("true", "false")}, number())
	},
	"Rule.events":  func() map[string]any { return anyOf(eventSchema(), filled(eventSchema())) },
	"Ready.marker": func() map[string]any { return fitting(`^[^/]*\{(name|stem)[^/]*$`) },
	"Retry.factor": func() map[string]any { return map[string]any{"type": "number", "minimum": 1} },
	"Retry.jitter": func() map[string]any {
		return map[string]any{"type": "number", "minimum": 0,
			"maximum": 0.3}
	},
	"Channel.webhook":     func() map[string]any { return fitting(`^(https?://[^/]|\{)`) },
	"Channel.desktop":     func() map[string]any { return map[string]any{"const": true} },
	"Mail.from":           func() map[string]any { return fitting(`@`) },
	"Mail.to":             func() map[string]any { return listOf(fitting(`@`)) },
	"Mail.server":         func() map[string]any { return fitting(`(:[0-9]+|\})$`) },
	"Heartbeat.every":     func() map[string]any { return fitting(durationPattern) },
	"Retry.never_on_exit": func() map[string]any { return listOf(integer()) },
}

// together are the keys of a mapping that go together, or not.
var together = map[reflect.Type]func() map[string]any{
	reflect.TypeFor[rule.Rule](): func() map[string]any {
		return map[string]any{"allOf": []any{notBoth("batch", "group"), notBoth("run", "script"),
			notBoth("run", "do"), notBoth("script", "do")}}
	},
	reflect.TypeFor[rule.Group]():     func() map[string]any { return required("by", "need") },
	reflect.TypeFor[rule.Batch]():     func() map[string]any { return anyOf(needs("quiet"), needs("max_files")) },
	reflect.TypeFor[rule.Notify]():    func() map[string]any { return required("on", "to") },
	reflect.TypeFor[rule.Heartbeat](): func() map[string]any { return required("to", "every") },
	reflect.TypeFor[rule.Fleet]():     func() map[string]any { return required("server", "key_file") },
	reflect.TypeFor[rule.Mail]():      func() map[string]any { return required("server", "from", "to") },
	reflect.TypeFor[rule.Example]():   func() map[string]any { return required("file") },
	reflect.TypeFor[rule.Channel](): func() map[string]any {
		return map[string]any{"oneOf": []any{needs("desktop"), needs("webhook"), needs("mail"), needs("command")}}
	},
}

func typeSchema(t reflect.Type, defs map[string]any) map[string]any {
	if own := typeWords[t]; own != nil {
		return words(own...)
	}
	if own := typeSchemas[t]; own != nil {
		return own()
	}
	if t.Kind() == reflect.Pointer {
		return typeSchema(t.Elem(), defs)
	}
	switch t {
	case reflect.TypeFor[rule.Entries]():
		return map[string]any{"type": "array", "items": ref(reflect.TypeFor[rule.Rule](), defs)}
	case reflect.TypeFor[rule.Rule]():
		return ref(t, defs)
	case reflect.TypeFor[rule.Step]():
		return stepSchema(defs)
	case reflect.TypeFor[rule.Place]():
		long := merge(properties("to", pathText(), "as", anyOf(fitting(`^[^/]*$`), number(), boolean())),
			required("to"), object())
		long["additionalProperties"] = false
		return anyOf(pathText(), long)
	case reflect.TypeFor[rule.Retry]():
		return anyOf(map[string]any{"type": "integer", "minimum": 0}, objectSchema(t, defs))
	}
	if one, ok := reflect.Zero(t).Interface().(rule.OneOf); ok {
		return words(one.Words()...)
	}
	switch t.Kind() {
	case reflect.Slice:
		return listOf(typeSchema(t.Elem(), defs))
	case reflect.Map:
		return map[string]any{"type": "object", "additionalProperties": typeSchema(t.Elem(), defs)}
	case reflect.Struct:
		return objectSchema(t, defs)
	case reflect.Bool:
		return boolean()
	case reflect.Int:
		return integer()
	}
	return text()
}

// stepSchema is one of the verbs, with the options that go with it.
func stepSchema(defs map[string]any) map[string]any {
	if defs["Step"] == nil {
		keys := map[string]any{}
		for _, f := range stepFields() {
			keys[f.Tag.Get("key")] = fieldSchema(reflect.TypeFor[rule.Step](), f, defs)
		}
		var each []any
		for _, v := range rule.Verbs {
			own := map[string]any{}
			for _, key := range append([]string{v.Name, "where", "timeout"}, v.Keys()...) {
				own[key] = keys[key]
			}
			needed := append([]string{v.Name}, v.Needs...)
			each = append(each, map[string]any{"type": "object", "properties": own, "required": needed,
				"additionalProperties": false})
		}
		defs["Step"] = map[string]any{"oneOf": each}
	}
	return reference("Step")
}

// ref keeps a large type once, under $defs.
func ref(t reflect.Type, defs map[string]any) map[string]any {
	if _, ok := defs[t.Name()]; !ok {
		defs[t.Name()] = map[string]any{} // ends the recursion
		defs[t.Name()] = objectSchema(t, defs)
	}
	return reference(t.Name())
}

func reference(name string) map[string]any { return map[string]any{"$ref": "#/$defs/" + name} }

// text is any plain value: YAML reads 5 or true where a text is meant.
func text() map[string]any { return anyOf(map[string]any{"type": "string"}, number(), boolean()) }

func pathText() map[string]any {
	return anyOf(map[string]any{"type": "string", "minLength": 1}, number(), boolean())
}

func object() map[string]any  { return map[string]any{"type": "object"} }
func number() map[string]any  { return map[string]any{"type": "number"} }
func boolean() map[string]any { return map[string]any{"type": "boolean"} }
func integer() map[string]any { return map[string]any{"type": "integer", "minimum": 0} }

func fitting(re string) map[string]any { return map[string]any{"type": "string", "pattern": re} }

func anyOf(list ...map[string]any) map[string]any {
	all := make([]any, len(list))
	for i, s := range list {
		all[i] = s
	}
	return map[string]any{"anyOf": all}
}

// listOf is one value, or a list of them.
func listOf(item map[string]any) map[string]any {
	return anyOf(item, map[string]any{"type": "array", "items": item})
}

// filled is a list that is not empty.
func filled(item map[string]any) map[string]any {
	return map[string]any{"type": "array", "items": item, "minItems": 1}
}

func required(keys ...string) map[string]any { return map[string]any{"required": keys} }

func needs(key string) map[string]any {
	return merge(required(key), properties(key, true), object())
}

func notBoth(a, b string) map[string]any {
	return map[string]any{"not": merge(required(a, b), properties(a, true, b, true), object())}
}

// properties takes keys and their schemas in turn.
func properties(pairs ...any) map[string]any {
	p := map[string]any{}
	for i := 0; i < len(pairs); i += 2 {
		p[pairs[i].(string)] = pairs[i+1]
	}
	return map[string]any{"properties": p}
}

func description(doc string) map[string]any {
	if doc == "" {
		return nil
	}
	return map[string]any{"description": doc}
}

func described(key string, value any, doc string) map[string]any {
	return map[string]any{key: value, "description": doc}
}

func words(list ...string) map[string]any {
	values := make([]any, len(list))
	for i, w := range list {
		values[i] = w
	}
	return map[string]any{"enum": values}
}

func without(m map[string]any, key string) map[string]any {
	out := merge(m)
	delete(out, key)
	return out
}

func merge(parts ...map[string]any) map[string]any {
	out := map[string]any{}
	for _, p := range parts {
		for k, v := range p {
			out[k] = v
		}
	}
	return out
}

const (
	namePattern     = `^[\p{L}\p{Nd}]( ?[\p{L}\p{M}\p{Nd}_.-]){0,63}$` // check says when it is too long
	spanPattern     = `([0-9]+(\.[0-9]+)?(ms|s|m|h|d|w))+`
	durationPattern = `^(0|` + spanPattern + `)$`
	bytesPattern    = `[0-9][0-9,]*(\.[0-9]+)? ?([kKmMgGtTpPeE][iI]?)?[bB]?`
	codePattern     = `^[0-9]+(\.\.[0-9]+)?$`
)

// rangePattern is a low end, a top end, or both.
func rangePattern(of string) string {
	return strings.ReplaceAll(`^(X\.\.(X)?|\.\.X)$`, "X", of)
}
