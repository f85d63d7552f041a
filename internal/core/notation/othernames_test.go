package notation

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// said parses a file and gives its diagnostics, a line each, as check says them.
func said(text string) string {
	_, diags := parse(text)
	var lines []string
	for _, d := range diags {
		lines = append(lines, fmt.Sprintf("%d:%d %s (%s) ~%s~", d.Line, d.Column, d.Message, d.Hint, d.About()))
	}
	return strings.Join(lines, "\n")
}

// A value of the wrong type is one error; what follows from it is not said.
func TestAValueOfTheWrongTypeIsOneError(t *testing.T) {
	require.Equal(t, "4:37 this value must be a text, and this is a mapping () ~{words: [cp, a]}~",
		said("version: 1\nrules:\n  -\n    {name: a, watch: in, do: [{run: {words: [cp, a]}}]}\n"))
}

// Old names, and what people type first, are errors that say the right word.
func TestOtherNames(t *testing.T) {
	const head = "version: 1\n"
	inRule := func(more string) string {
		return head + "rules:\n  - name: a\n    watch: in\n    " + more + "\n"
	}
	for text, want := range map[string]string{
		head + "state: x\nrules: [{name: a, watch: " +
			"in}]\n": "state_folder",
		head + "never: x\nrules: [{name: a, watch: " +
			"in}]\n": "ignore",
		head + "words: {a: b}\nrules: [{name: a, watch: " +
			"in}]\n": "vars",
		head + "include: x\nrules: [{name: a, watch: " +
			"in}]\n": "more_rules",
		head + "heartbeat: {channel: log, every: 1h}\nrules: [{name: a, watch: " +
			"in}]\n": "it is to now",
		head + "channels: {a: {desktop: true, gather: 1s}}\nrules: [{name: a, watch: " +
			"in}]\n": "digest",
		head + "channels: {a: {mail: {server: \"h:25\", from: a@b, to: c@d, encryption: from_start}}}\nrules: " +
			"[{name: a, watch: in}]\n": "implicit_tls",
		head + "notify: {on: untaken, to: log}\nrules: [{name: a, watch: " +
			"in}]\n": "unmatched",
		inRule("run: [cp, '{file}', b]"):                "(write the words in one line: run: cp {file} b)",
		inRule("run: [sh, -c, 'a; b']"):                 "(write the words in one line: run: sh -c 'a; b')",
		inRule("take: folders"):                         "unit",
		inRule("unit: folders"):                         "it is folder now",
		inRule("kind: image/*"):                         "media_type",
		inRule("look: 5s"):                              "poll",
		inRule("one_by_one: x"):                         "serial_by",
		inRule("serial_by: true"):                       "serial_by: all",
		inRule("was: b"):                                "old_name",
		inRule("gather: {quiet: 5s}"):                   "batch",
		inRule("batch: {most: 5}"):                      "max_files",
		inRule("group: {then: go}"):                     "overdue",
		inRule("ready: {at_most: 5s}"):                  "max_wait",
		inRule("ready: {overdue: go}"):                  "it is take now",
		inRule("while_running: after"):                  "finish_first",
		inRule("while_running: ignore"):                 "own_work",
		inRule("retry: {first: 2s}"):                    "delay",
		inRule("retry: {longest: 2s}"):                  "max_delay",
		inRule("retry: {never_on: [65]}"):               "never_on_exit",
		inRule("do: [{run: x, in: y}]"):                 "working_folder",
		inRule("do: [{run: x, ok: [0]}]"):               "success_codes",
		inRule("do: [{post: 'http://x', expect: 200}]"): "success_codes",
		inRule("do: [{replace: x}]"):                    "replace_with",
		inRule("do: [{unpack: x, limits: {files: 3}}]"): "max_files",
		inRule("do: [{notify: log, text: x}]"):          "tell",
		inRule("notify: {on: drained, to: log}"):        "caught_up",
		inRule("notify: {on: unready, to: log}"):        "overdue",
		inRule("notify: {on: trouble, to: log}"):        "blocked",
		inRule("examples: [{file: x, ends_in: y}]"):     "file_after",
		inRule("processed: '{dir}/x'"):                  "it is {folder}",
		inRule("processed: 'x/{reldir}'"):               "it is {rel_folder}",
		inRule("processed: 'x/{kind}'"):                 "it is {media_type}",
		inRule("processed: 'x/{type}'"):                 "it is {main_type}",
		inRule("processed: 'x/{clock:%Y}'"):             "it is {now}",
		inRule("where: path == 'x'"):                    "it is file",
		inRule("where: kind == 'x'"):                    "it is media_type",
		inRule("match: '<a:x*>.csv'"):                   "<a=pattern>",
		// What people type first.
		inRule("filter: x"): "match:", inRule("pattern: x"): "match", inRule("glob: x"): "match",
		inRule("recursive: true"): "depth: all",
		inRule("extension: csv"):  `match: "*.csv"`, inRule("command: x"): "run", inRule("cmd: x"): "run",
		inRule("exec: x"): "run", inRule("shell: x"): "script",
		inRule("folder: x"): "watch", inRule("path: x"): "watch", inRule("ignore_files: x"): "leading",
		inRule("delay: 2s"):     "debounce",
		inRule("on_success: x"): "processed:", inRule("on_failure: x"): "failed:",
		inRule("created: x"): "events: added", inRule("modified: x"): "events: changed",
		inRule("deleted: x"):      "events: removed",
		inRule("events: created"): "it is added", inRule("events: modified"): "it is changed",
		inRule("events: deleted"):                 "it is removed",
		inRule("move: done"):                      "put it under do: [{move: …}]",
		inRule("tag: [x]"):                        "put it under do: [{tag: …}]",
		inRule("unpack: x"):                       "put it under do:",
		inRule("run: x\n    stdout: y"):           "it belongs to the step: do: [{run: …, stdout: …}]",
		inRule("script: x\n    success_codes: 1"): "do: [{script: …, success_codes: …}]",
		inRule("from: x"):                         "belongs to a step",
	} {
		got := said(text)
		require.Contains(t, got, want, text)
		require.Contains(t, got, "(", text)
	}
}

// What YAML makes of characters that people do not expect it to mind, in one sentence.
func TestSlips(t *testing.T) {
	const head = "version: 1\nrules:\n  - name: a\n    watch: in\n"
	for text, want := range map[string]string{
		head + "    match: " +
			"*.csv\n": `5:12 a * at the beginning of a value is an alias in YAML, and no anchor named &.csv stands before this (for a pattern quote it: "*.csv") ~*.csv~`,
		head + "    match: " +
			"!*.csv\n": `5:12 a ! at the beginning of a value is a tag in YAML (quote it: "!*.csv") ~!*.csv~`,
		head + "\tmatch: " +
			"x\n": "5:1 a tab stands in the indentation, and YAML indents with " +
			"spaces (write spaces instead) ~\t~",
		head + "    processed: " +
			"{station}/x\n": `5:16 a placeholder at the beginning of a value is a mapping in YAML (quote it: processed: "{station}/x") ~{station}~`,
		head + "    run: echo a: " +
			"b\n": `5:10 a colon and a space in a value begin a mapping in YAML (quote it: run: "echo a: b") ~echo~`,
		head + "    run: say \"a: " +
			"b\"\n": `5:10 a colon and a space in a value begin a mapping in YAML (quote it: run: 'say "a: b"') ~say~`,
		head + "   match: " +
			"x\n": "5:4 this line begins after 3 spaces, and the keys above it after " +
			"4 (keys that belong together begin in one column: indent it by 4) ~match~",
		head + "    run: " +
			"\"x\n": `5:10 this quote is not closed (add a " at the end) ~"x~`,
		head + "    match: [a, b\n": `5:12 this [ has no ] to close it`,
		head + "    where: \"a\" == " +
			"b\n": `5:12 the value ends at its second quote, and more text follows (quote the whole of it: where: '"a" == b') ~"a"~`,
		head + "    where: " +
			"@x\n": `5:12 no value begins with @ in YAML (quote it: where: "@x") ~@x~`,
		head + "    do:\n    - run: x\n      - copy: " +
			"y\n": "7:7 this entry begins after 6 spaces, and the one above it after 4 (the entries of a list " +
			"begin in one column: indent it by 4)",
		"version: 1\nrules:\n  - name a\n    watch: " +
			"in\n": "3:5 a colon is missing after name (write name: a) ~name~",
	} {
		require.Contains(t, said(text), want, text)
	}
}
