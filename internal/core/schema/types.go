package schema

import (
	"reflect"

	"stilltide/internal/core/rule"
)

// typeWords are the words of the types that are written as one of a few.
var typeWords = map[reflect.Type][]string{
	reflect.TypeFor[rule.Again]():        {"changed", "never", "always"},
	reflect.TypeFor[rule.Encryption]():   {"starttls_if_offered", "starttls", "implicit_tls", "none"},
	reflect.TypeFor[rule.Event]():        {"added", "changed", "removed", "renamed"},
	reflect.TypeFor[rule.Existing]():     {"take", "leave"},
	reflect.TypeFor[rule.GroupOverdue](): {"fail", "take"},
	reflect.TypeFor[rule.Loops]():        {"stop", "allow"},
	reflect.TypeFor[rule.Occasion]():     {"failed", "processed", "caught_up", "overdue", "blocked", "unmatched"},
	reflect.TypeFor[rule.Order]():        {"arrival", "name", "oldest", "newest", "smallest"},
	reflect.TypeFor[rule.Overdue]():      {"wait", "fail", "take"},
	reflect.TypeFor[rule.Running]():      {"finish_first", "stop_old", "own_work"},
	reflect.TypeFor[rule.SameName]():     {"number", "replace", "skip", "fail"},
	reflect.TypeFor[rule.Stdin]():        {"file"},
	reflect.TypeFor[rule.Unit]():         {"file", "folder"},
	reflect.TypeFor[rule.WhileAway]():    {"hold", "run_here"},
	reflect.TypeFor[rule.WritersMode]():  {"wait", "ignore"},
}

// typeSchemas are those of the other types that have a notation of their own.
var typeSchemas = map[reflect.Type]func() map[string]any{
	reflect.TypeFor[rule.AgeRange](): func() map[string]any {
		return fitting(rangePattern(` ?` + spanPattern +
			` ?`))
	},
	reflect.TypeFor[rule.CodeRange](): func() map[string]any { return anyOf(integer(), fitting(codePattern)) },
	reflect.TypeFor[rule.Depth](): func() map[string]any {
		return anyOf(words("all"),
			map[string]any{"type": "integer", "minimum": 0})
	},
	reflect.TypeFor[rule.Duration](): func() map[string]any {
		return anyOf(fitting(durationPattern),
			map[string]any{"const": 0})
	},
	reflect.TypeFor[rule.Number]():  func() map[string]any { return map[string]any{"type": "number"} },
	reflect.TypeFor[rule.Path]():    func() map[string]any { return pathText() },
	reflect.TypeFor[rule.Percent](): func() map[string]any { return fitting(`^[0-9]{1,2}(\.[0-9]+)? *%$`) },
	reflect.TypeFor[rule.Poll](): func() map[string]any {
		return anyOf(words("auto"),
			fitting(`^`+spanPattern+`$`))
	},
	reflect.TypeFor[rule.Rate](): func() map[string]any {
		return fitting(`^ *[1-9][0-9]* +in +` + spanPattern +
			` *$`)
	},
	reflect.TypeFor[rule.Save](): func() map[string]any {
		return anyOf(fitting(savedPattern), map[string]any{"type": "object", "minProperties": 1,
			"propertyNames":        map[string]any{"pattern": savedPattern},
			"additionalProperties": map[string]any{"type": "string", "minLength": 1}})
	},
	reflect.TypeFor[rule.Schedule](): func() map[string]any { return map[string]any{"type": "string"} },
	reflect.TypeFor[rule.Size]():     func() map[string]any { return anyOf(fitting(`^`+bytesPattern+`$`), integer()) },
	reflect.TypeFor[rule.SizeRange](): func() map[string]any {
		return fitting(rangePattern(` ?` + bytesPattern +
			` ?`))
	},
	reflect.TypeFor[rule.Text]():  func() map[string]any { return text() },
	reflect.TypeFor[rule.Where](): func() map[string]any { return text() },
}

func eventSchema() map[string]any { return words(typeWords[reflect.TypeFor[rule.Event]()]...) }

const savedPattern = "^[a-z][a-z0-9_]*$"
