package schema

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"
	"github.com/stretchr/testify/require"

	"stilltide/internal/core/notation"
	"stilltide/internal/core/rule"
	"stilltide/internal/machine"
)

// ruleWith is a rules file with one rule.
func ruleWith(keys string) string {
	return "version: 1\nrules:\n  - {name: a, watch: in, " + keys + "}\n"
}

// good and bad are rules files on which check and the schema must agree. What only check
// can know (other files, names that must be there, the order of two values) is not here.
var good = []string{
	"version: 1\nrules: [{name: a, watch: in}]\n",
	"version: 1\ndefaults: {watch: in}\nrules: [{name: a}]\n",
	"version: 1\nworkers: 4\nstate_folder: .x\nkeep_history: 30d\nstop_after: 1m\nkeep_replaced: 2GiB\nlisten: " +
		"127.0.0.1:9470\nrules: [{name: a, watch: [in, out]}]\n",
	"version: 1\nchannels: {d: {desktop: true, digest: 30s}, w: {webhook: 'http://127.0.0.1/x', secret_env: S}, " +
		"c: {command: 'page {title}'}}\nnotify: {on: [blocked, unmatched], to: [d, w]}\nheartbeat: {to: c, " +
		"every: 1h}\nrules: [{name: a, watch: in}]\n",
	"version: 1\nchannels: {m: {mail: {server: 'h:25', from: a@b, to: [c@d], encryption: starttls}}}\nrules: " +
		"[{name: a, watch: in}]\n",
	"version: 1\nfleet: {server: ['nats://h:4222'], key_file: k}\nrules: [{name: a, watch: in, pool: p, run: " +
		"x}]\n",
	"version: 1\nfleet: {server: 'tls://h', key_file: k, ca: c}\nrules: [{name: a, watch: in, pool: p, run: " +
		"x}]\n",
	"version: 1\nqueues: {q: {workers: 1, rate: 30 in 1m, priority: 5}}\nrules: [{name: a, watch: in, queue: q}]\n",
	ruleWith("depth: all"), ruleWith("depth: 3"), ruleWith("unit: folder"), ruleWith("events: removed"),
	ruleWith("match: ['*.csv', '!x*']"),
	ruleWith("media_type: 'image/*'"), ruleWith("size: 100MB.."), ruleWith("size: ..2KiB"),
	ruleWith("size: '1KB..2KB'"), ruleWith("age: 1h..30d"),
	ruleWith("debounce: 0"), ruleWith("debounce: 1h30m"), ruleWith("poll: auto"), ruleWith("poll: 10s"),
	ruleWith("timeout: 2.5s"),
	ruleWith("ready: {writers: ignore, marker: '{name}.ok', min_size: 1KB, max_wait: 1h, overdue: fail}"),
	ruleWith("batch: {quiet: 5s, max_files: 500}"),
	ruleWith("group: {by: '{stem}', need: ['*.a', '*.b'], max_wait: 1h, overdue: take}"),
	ruleWith("retry: " +
		"5"), ruleWith("retry: {times: 3, delay: 10s, factor: 1, max_delay: 10m, jitter: 0.2, never_on_exit: " +
		"[65, 66], never_on_status: 404}"),
	ruleWith("run: 'x {file}'"), ruleWith("script: 'echo \"$1\"'"),
	ruleWith("do: [{run: x, success_codes: [0, 98], save: w}, {post: 'http://h/{w}', success_codes: " +
		"200..299}]"),
	ruleWith("do: [{replace_with: '{scratch}/x', keep: smaller, min_gain: 0.5%}, {unpack: out, max_files: 10, " +
		"max_size: 1GB, max_ratio: 20}]"),
	ruleWith("do: [{write: out, as: x.txt, content: y}, {tell: log, text: z}, {tag: [a, b]}, {rename: " +
		"'{stem}.x'}, {discard: trash}]"),
	ruleWith("processed: {to: done, as: 'x-{name}'}, same_name: replace"), ruleWith("schedule: '0 20 * * fri'"),
	ruleWith("serial_by: '{folder}'"),
	ruleWith("notify: {on: [caught_up, overdue], to: log}"),
	ruleWith("examples: [{file: x, taken: true, file_after: in/x, size: 2KB, event: changed, modified: " +
		"'2026-03-04'}]"),
	"version: 1\nvars: {a: x, b: 3}\nignore: ['*.bak']\nmore_rules: ['x/*.yaml']\ncategories: {drawings: {types: " +
		"[image/vnd.dwg, .dxf]}}\nrules: [{name: a, watch: in, category: [drawings, pictures]}]\n",
	"version: 1\nfleet: {server: h, key_file: k, lease: 30s, max_in_flight: 256MB, shared: {/a: /b}}\nrules: " +
		"[{name: a, watch: in, pool: p, run: x, while_away: run_here, bring: [x]}]\n",
	"version: 1\nchannels: {m: {mail: {server: 'h:25', from: a@b, to: c@d, user: u, password_env: P}}}\nrules: " +
		"[{name: a, watch: in}]\n",
	ruleWith("hidden: true, ignore_case: true, existing: leave, enabled: false, old_name: b, while_running: " +
		"stop_old, again: never, loops: allow, order: smallest"),
	ruleWith("share: true, run: x"), ruleWith("where: 'size > 5', let: {k: 'size / 2'}"),
	ruleWith("again_on: [a.txt], run: x"), ruleWith("retry: {after_crash: false}, failed: bad, run: x"),
	ruleWith("do: [{run: x, where: 'size > 0', working_folder: w, env: {A: b}, add_file: false, stdin: file, " +
		"stdout: out/x}, {script: y, interpreter: bash}]"),
	ruleWith("do: [{link: l, hard: true}, {untag: a}, {copy: c}, {move: m}, {post: 'http://h', method: PUT, " +
		"headers: {A: b}, headers_env: {C: D}, field: f}, {post: 'http://h', body: b}]"),
	ruleWith("do: [{mirror: m, repair: true}]"),
}

var bad = []string{
	"rules: [{name: a, watch: in}]\n",
	"version: 2\nrules: [{name: a, watch: in}]\n",
	"version: 1\nrules: [{name: a}]\n",
	"version: 1\nrules: [{watch: in}]\n",
	"version: 1\nrules: {name: a, watch: in}\n",
	"version: 1\nstate: x\nrules: [{name: a, watch: in}]\n",
	"version: 1\ndefaults: {name: x}\nrules: [{name: a, watch: in}]\n",
	"version: 1\nlisten: 0.0.0.0:80\nrules: [{name: a, watch: in}]\n",
	"version: 1\nkeep_replaced: plenty\nrules: [{name: a, watch: in}]\n",
	"version: 1\nchannels: {d: {desktop: true, webhook: 'http://x'}}\nrules: [{name: a, watch: in}]\n",
	"version: 1\nchannels: {d: {digest: 1s}}\nrules: [{name: a, watch: in}]\n",
	"version: 1\nchannels: {m: {mail: {server: 'h:25', from: nobody, to: c@d}}}\nrules: [{name: a, watch: in}]\n",
	"version: 1\nheartbeat: {to: log}\nrules: [{name: a, watch: in}]\n",
	"version: 1\nnotify: {on: blocked}\nrules: [{name: a, watch: in}]\n",
	"version: 1\nqueues: {q: {rate: often}}\nrules: [{name: a, watch: in}]\n",
	"version: 1\nrules: [{name: 'a/b', watch: in}]\n", "version: 1\nrules: [{name: '', watch: in}]\n",
	"version: 1\nrules: [{name: '-a', watch: in}]\n",
	ruleWith("depth: -1"), ruleWith("depth: deep"), ruleWith("unit: folders"), ruleWith("events: []"),
	ruleWith("events: created"), ruleWith("media_type: image"),
	ruleWith("size: 5"), ruleWith("size: '..'"), ruleWith("size: 1XB.."), ruleWith("age: 3"), ruleWith("age: 1y.."),
	ruleWith("debounce: 5"), ruleWith("debounce: soon"), ruleWith("debounce: 1 h"), ruleWith("poll: often"),
	ruleWith("timeout: -1s"),
	ruleWith("ready: {writers: wait, overdue: go}"), ruleWith("ready: {marker: done.ok}"), ruleWith("batch: {}"),
	ruleWith("batch: {max_wait: 1s}"), ruleWith("group: {by: x}"), ruleWith("group: {need: ['*.a']}"),
	ruleWith("batch: {quiet: 1s}, group: {by: '{stem}', need: ['*']}"),
	ruleWith("retry: -1"), ruleWith("retry: {factor: 0.5}"), ruleWith("retry: {jitter: 2}"),
	ruleWith("retry: often"),
	ruleWith("run: x, script: y"), ruleWith("run: x, do: [{run: y}]"), ruleWith("do: [{run: x, script: y}]"),
	ruleWith("do: [{copy: a, move: b}]"), ruleWith("do: [{timeout: 1s}]"),
	ruleWith("do: [{run: x, as: y}]"), ruleWith("do: [{copy: a, success_codes: 0}]"),
	ruleWith("do: [{run: x, success_codes: few}]"), ruleWith("do: [{write: x, as: y}]"),
	ruleWith("do: [{tell: log}]"),
	ruleWith("do: [{replace_with: x, keep: larger}]"),
	ruleWith("do: [{replace_with: x, keep: smaller, min_gain: 5}]"), ruleWith("do: [{copy: a, as: b/c}]"),
	ruleWith("do: [{tag: 'a,b'}]"), ruleWith("do: [{post: 'ftp://x'}]"),
	ruleWith("processed: {as: x}"), ruleWith("processed: ''"), ruleWith("same_name: overwrite"),
	ruleWith("schedule: daily"), ruleWith("serial_by: true"), ruleWith("order: biggest"),
	ruleWith("again: often"),
	ruleWith("notify: {to: log}"), ruleWith("notify: {on: drained, to: log}"),
	ruleWith("examples: [{taken: true}]"), ruleWith("enabled: maybe"), ruleWith("hidden: 3"),
	ruleWith("watch2: x"),
}

func checkTakes(t *testing.T, text string) bool {
	path := filepath.Join(t.TempDir(), rule.FileName)
	_, diags := notation.Parse(path, []byte(text))
	return !diags.Failed()
}

func TestSchemaAgreesWithCheck(t *testing.T) {
	require.GreaterOrEqual(t, len(good)+len(bad), 60)
	s := validator(t)
	for _, text := range good {
		require.True(t, checkTakes(t, text), "check refuses %s", text)
		require.NoError(t, valid(t, s, text), text)
	}
	for _, text := range bad {
		require.False(t, checkTakes(t, text), "check takes %s", text)
		require.Error(t, valid(t, s, text), text)
	}
}

// A value that may be a list may be one entry without its list, for check and the schema alike.
func TestSchemaAgreesOnListsOfOne(t *testing.T) {
	s := validator(t)
	tried := 0
	for _, text := range good {
		var tree any
		require.NoError(t, yaml.Unmarshal([]byte(text), &tree))
		eachValue(tree, func(put func(any), v any) {
			list, is := v.([]any)
			switch {
			case is && len(list) == 1:
				put(list[0])
			case is:
				return
			default:
				put([]any{v})
			}
			changed, err := yaml.Marshal(tree)
			require.NoError(t, err)
			put(v)
			tried++
			require.Equal(t, checkTakes(t, string(changed)), valid(t, s, string(changed)) == nil, "%s", changed)
		})
	}
	require.Greater(t, tried, 300)
}

// A key that is added to the notation is added to the files above.
func TestEachKeyIsInAGoodFile(t *testing.T) {
	text, err := json.Marshal(Rules())
	require.NoError(t, err)
	var own any
	require.NoError(t, json.Unmarshal(text, &own))
	keys := map[string]bool{}
	eachMapping(own, func(at map[string]any) {
		list, _ := at["properties"].(map[string]any)
		for key := range list {
			keys[key] = true
		}
	})
	require.Greater(t, len(keys), 100)
	for _, text := range good {
		var tree any
		require.NoError(t, yaml.Unmarshal([]byte(text), &tree))
		eachMapping(tree, func(at map[string]any) {
			for key := range at {
				delete(keys, key)
			}
		})
	}
	require.Empty(t, keys)
}

// eachMapping calls f with each mapping of a tree.
func eachMapping(tree any, f func(at map[string]any)) {
	switch at := tree.(type) {
	case map[string]any:
		f(at)
		for _, v := range at {
			eachMapping(v, f)
		}
	case []any:
		for _, v := range at {
			eachMapping(v, f)
		}
	}
}

// eachValue calls f with each value below a tree, and what puts another in its place.
func eachValue(tree any, f func(put func(any), v any)) {
	switch at := tree.(type) {
	case map[string]any:
		for _, key := range slices.Sorted(maps.Keys(at)) {
			f(func(v any) { at[key] = v }, at[key])
			eachValue(at[key], f)
		}
	case []any:
		for i := range at {
			f(func(v any) { at[i] = v }, at[i])
			eachValue(at[i], f)
		}
	}
}

// The same with another validator, in its strict mode: Ajv, which runs in Node.
func TestAjvAgreesWithCheck(t *testing.T) {
	modules := os.Getenv("STILLTIDE_AJV")
	if modules == "" {
		machine.Lacks(t, "STILLTIDE_AJV names no folder with node_modules/ajv (npm install ajv)")
	}
	var files []any
	for _, text := range append(append([]string{}, good...), bad...) {
		asJSON, err := yaml.YAMLToJSON([]byte(text))
		require.NoError(t, err)
		var v any
		require.NoError(t, json.Unmarshal(asJSON, &v))
		files = append(files, v)
	}
	in, err := json.Marshal(map[string]any{"schema": Rules(), "files": files})
	require.NoError(t, err)
	node := exec.Command("node", "-e", `
const Ajv = require("ajv/dist/2020");
const {schema, files} = JSON.parse(require("fs").readFileSync(0));
const valid = new Ajv({strict: true}).compile(schema);
console.log(JSON.stringify(files.map(f => valid(f))));`)
	node.Dir, node.Env = modules, append(os.Environ(), "NODE_PATH="+filepath.Join(modules, "node_modules"))
	node.Stdin = bytes.NewReader(in)
	var errs bytes.Buffer
	node.Stderr = &errs
	out, err := node.Output()
	require.NoError(t, err, errs.String())
	var takes []bool
	require.NoError(t, json.Unmarshal(out, &takes))
	require.Len(t, takes, len(files))
	for i, is := range takes {
		if i < len(good) {
			require.True(t, is, good[i])
		} else {
			require.False(t, is, bad[i-len(good)])
		}
	}
}

// What the schema calls a default is what a rule has that says nothing.
func TestDefaultsAreWhatIsLeftOut(t *testing.T) {
	var keys []string
	for key := range defaultOf {
		keys = append(keys, key)
	}
	sort.Strings(keys)
	in := map[string]string{
		"Rule": "%s: %s", "Ready": "ready: {%s: %s}", "Batch": "batch: {quiet: 1s, %s: %s}",
		"Group": "group: {by: '{stem}', need: ['*'], %s: %s}", "Retry": "retry: {%s: %s}",
	}
	for _, key := range keys {
		kind, name, _ := strings.Cut(key, ".")
		form, ok := in[kind]
		if !ok {
			continue
		}
		value, err := json.Marshal(defaultOf[key])
		require.NoError(t, err)
		with, diags := notation.Parse("/office/stilltide.yaml", []byte(ruleWith(fmt.Sprintf(form, name, value))))
		require.Empty(t, diags, key)
		without := ruleWith("enabled: true")
		switch kind {
		case "Batch":
			without = ruleWith("batch: {quiet: 1s}")
		case "Group":
			without = ruleWith("group: {by: '{stem}', need: ['*']}")
		}
		plain, diags := notation.Parse("/office/stilltide.yaml", []byte(without))
		require.Empty(t, diags)
		a, b := with.All()[0], plain.All()[0]
		require.Equal(t, means(b), means(a), key)
	}
}

// means is what a rule says, without the places where it says it.
func means(r *rule.Rule) string {
	wait := ""
	if r.Gather != nil {
		wait = fmt.Sprint(r.Gather.MaxFiles, r.Gather.Overdue, r.Gather.Quiet.Duration)
	}
	return fmt.Sprint(r.Depth, r.Unit, r.Events, r.Matcher.Fits("x.csv", "x.csv"), r.Hidden, r.Case, r.Existing,
		r.Share, r.Enabled, r.Debounce.Duration, r.Poll, r.Running,
		r.Retry.Times, r.Retry.Delay.Duration, r.Retry.Factor, r.Retry.MaxDelay.Duration, r.Retry.Jitter,
		r.Retry.AfterCrash, r.Again, r.Loops, r.SameName, r.Order, len(r.Examples),
		r.Ready.Writers, r.Ready.MinSize, r.Ready.Overdue, wait)
}
