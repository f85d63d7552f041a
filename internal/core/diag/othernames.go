package diag

import (
	"cmp"
	"fmt"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"stilltide/internal/core/rule"
)

// What people write who know this notation from before its names were settled, or who
// expect another program's usual word. None of these is an alias: each is an error that
// names the right word.

// where a key stands, as far as its right name depends on it.
type part string

const (
	inFile      part = "the rules file"
	inRule      part = "a rule"
	inStep      part = "a step"
	inReady     part = "ready"
	inRetry     part = "retry"
	inBatch     part = "batch"
	inGroup     part = "group"
	inChannel   part = "a channel"
	inHeartbeat part = "heartbeat"
	inExample   part = "an example"
)

// otherKeys says what to write instead of a key that is not there.
var otherKeys = map[part]map[string]string{
	inFile: {
		"state": "it is state_folder now", "never": "it is ignore now", "words": "it is vars now",
		"include":      "it is more_rules now",
		"ignore_files": "it is ignore", "variables": "it is vars", "includes": "it is more_rules",
		"exclude":     "it is ignore",
		"concurrency": "it is workers", "jobs": "it is workers", "parallel": "it is workers",
	},
	inRule: {
		"take": "it is unit now: file or folder", "kind": "it is media_type now", "look": "it is poll now",
		"one_by_one": "it is serial_by now: a template",
		"was": "it is old_name " +
			"now", "gather": "it is batch (quiet, max_files, max_wait) or group (by, need, max_wait, overdue) now",
		"filter": "the names are match:, a condition is where:", "pattern": "it is match",
		"patterns": "it is match", "glob": "it is match", "globs": "it is match",
		"recursive": "it is depth: all", "recurse": "it is depth: all", "subfolders": "it is depth: all",
		"extension":  `it is match: "*.csv" for names that end in .csv`,
		"extensions": `it is match: ["*.csv", "*.txt"] for names that end so`,
		"ext":        `it is match: "*.csv" for names that end in .csv`,
		"command":    "it is run, for a program, or script, for shell text",
		"cmd":        "it is run, for a program, or script, for shell text",
		"exec":       "it is run, for a program, or script, for shell text",
		"shell":      "it is script, for shell text",
		"action":     "it is run, script or do", "actions": "it is do, a list of steps",
		"steps":  "it is do, a list of steps",
		"folder": "it is watch", "folders": "it is watch, which takes a list", "path": "it is watch",
		"paths": "it is watch, which takes a list", "dir": "it is watch", "directory": "it is watch",
		"source":       "it is watch",
		"ignore_files": `names that the rule leaves out stand in match: with a leading "!"; for all rules it is ignore: at the top of the file`,
		"ignore":       `names that the rule leaves out stand in match: with a leading "!"; for all rules it is ignore: at the top of the file`,
		"exclude":      `names that the rule leaves out stand in match: with a leading "!"; for all rules it is ignore: at the top of the file`,
		"delay":        "it is debounce", "settle": "it is debounce", "wait": "it is debounce",
		"stability": "it is debounce",
		"on_success": "processed: is where the input goes after success; notify: {on: processed, to: …} tells of " +
			"it",
		"on_failure": "failed: is where the input goes after the last failed attempt; notify: {on: failed, to: " +
			"…} tells of it",
		"on_error": "failed: is where the input goes after the last failed attempt; notify: {on: failed, to: " +
			"…} tells of it",
		"success": "it is processed", "done": "it is processed", "failure": "it is failed",
		"error": "it is failed", "errors": "it is failed",
		"created": "it is events: added", "modified": "it is events: changed", "deleted": "it is events: removed",
		"event": "it is events, a list", "trigger": "it is events, a list",
		"retries": "it is retry", "attempts": "it is retry: how many more after the first",
		"priority": "it belongs to a queue: queues: {NAME: {priority: 5}} at the top of the file, queue: " +
			"NAME here",
		"workers": "it belongs to the file, or to a queue: queues: {NAME: {workers: 1}} at the top of the file, " +
			"queue: NAME here", "cron": "it is schedule", "disabled": "it is enabled: false",
		"mime": "it is media_type", "mime_type": "it is media_type",
		"tags": `tags are put with do: [{tag: …}], and asked for with where: '"x" in tags'`,
	},
	inStep: {
		"in": "it is working_folder now", "ok": "it is success_codes now", "expect": "it is success_codes now",
		"replace": "it is replace_with now", "notify": "it is tell now",
		"limits":  "its keys stand in the step itself now: max_files, max_size, max_ratio",
		"command": "it is run, for a program, or script, for shell text",
		"cmd":     "it is run, for a program, or script, for shell text",
		"exec":    "it is run, for a program, or script, for shell text",
		"shell":   "it is script, for shell text", "cwd": "it is working_folder", "workdir": "it is working_folder",
		"to": "the folder stands behind the verb: move: FOLDER", "name": "it is as",
		"if": "it is where", "when": "it is where", "delete": "it is discard: delete",
		"trash": "it is discard: trash", "upload": "it is post", "http": "it is post",
		"environment": "it is env",
	},
	inReady: {"at_most": "it is max_wait now", "then": "it is overdue now: wait, fail or take"},
	inRetry: {"first": "it is delay now", "longest": "it is max_delay now",
		"never_on": "it is never_on_exit now", "backoff": "it is factor", "count": "it is times",
		"max": "it is times", "attempts": "it is times: how many more after the first",
		"retries": "it is times"},
	inBatch: {"most": "it is max_files now", "at_most": "it is max_wait now",
		"by":   "files that belong together are group: {by, need}",
		"need": "files that belong together are group: {by, need}"},
	inGroup: {"at_most": "it is max_wait now", "then": "it is overdue now: fail or take",
		"quiet":     "files that come together are batch: {quiet}",
		"max_files": "files that come together are batch: {max_files}"},
	inChannel: {"gather": "it is digest now", "email": "it is mail", "smtp": "it is mail", "url": "it is webhook",
		"secret": "it is secret_env: the environment variable that holds it"},
	inHeartbeat: {"channel": "it is to now"},
	inExample:   {"ends_in": "it is file_after now", "kind": "it is media_type now"},
}

// OtherValues says what to write instead of a value, by its key.
var OtherValues = map[string]map[string]string{
	"unit":          {"files": "it is file now", "folders": "it is folder now", "directory": "it is folder"},
	"overdue":       {"failed": "it is fail now", "go": "it is take now"},
	"while_running": {"after": "it is finish_first now", "ignore": "it is own_work now"},
	"on": {"drained": "it is caught_up now", "unready": "it is overdue now", "trouble": "it is blocked now",
		"untaken": "it is unmatched now",
		"success": "it is processed", "failure": "it is failed", "error": "it is failed"},
	"encryption": {"offered": "it is starttls_if_offered now", "always": "it is starttls now",
		"from_start": "it is implicit_tls now", "never": "it is none now", "ssl": "it is implicit_tls",
		"tls": "it is implicit_tls, or starttls"},
	"an event": {"created": "it is added", "create": "it is added", "modified": "it is changed",
		"modify": "it is changed", "deleted": "it is removed", "delete": "it is removed"},
	"same_name": {"overwrite": "it is replace", "rename": "it is number", "error": "it is fail",
		"keep": "it is skip"},
}

// OtherWords says what to write instead of a placeholder or a word of an expression.
var OtherWords = map[string]string{
	"dir": "folder", "reldir": "rel_folder", "kind": "media_type", "type": "main_type", "clock": "now",
	"path": "file", "filename": "name", "basename": "name", "extension": "ext", "directory": "folder",
	"date": "modified", "mime": "media_type",
}

// partOf returns the part of the notation that a mapping is, by what messages call it.
func partOf(what string) part {
	if what == "do" || strings.HasPrefix(what, "entry ") && strings.HasSuffix(what, " of do") {
		return inStep
	}
	if strings.HasPrefix(what, "channels.") {
		return inChannel
	}
	if what == "examples" || strings.HasPrefix(what, "entry ") && strings.HasSuffix(what, " of examples") {
		return inExample
	}
	if what == "defaults" {
		return inRule
	}
	return part(what)
}

// insteadOf returns a hint for a key that is not there, "" if nothing is known of it. what is
// the mapping, as messages call it, and pairs are its keys with their values.
func insteadOf(what, key string, pairs []*ast.MappingValueNode) string {
	at := partOf(what)
	if at != inRule {
		return otherKeys[at][key]
	}
	if hint := cmp.Or(stepOption(pairs, key), otherKeys[at][key]); hint != "" {
		return hint
	}
	for _, v := range rule.Verbs {
		if v.Name == key {
			return fmt.Sprintf("%s is a step: put it under do: [{%s: …}]", key, key)
		}
	}
	for _, v := range rule.Verbs {
		if v.Has(key) {
			return fmt.Sprintf("%s belongs to a step: do: [{%s: …, %s: …}]", key, v.Name, key)
		}
	}
	return ""
}

// stepOption explains an option of a step that stands in a rule beside run or script.
func stepOption(pairs []*ast.MappingValueNode, key string) string {
	verb := ""
	for _, p := range pairs {
		if k := p.Key.GetToken().Value; k == "run" || k == "script" {
			verb = k
		}
	}
	for _, v := range rule.Verbs {
		if v.Name == verb && v.Has(key) {
			return fmt.Sprintf("it belongs to the step: do: [{%s: …, %s: …}]", verb, key)
		}
	}
	return ""
}
