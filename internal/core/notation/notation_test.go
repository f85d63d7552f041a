package notation

import (
	"fmt"
	"math"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"stilltide/internal/core/diag"
	"stilltide/internal/core/rule"
)

func parse(text string) (*rule.File, diag.List) {
	return Parse("/office/stilltide.yaml", []byte(text))
}

const head = "version: 1\nrules:\n"

func TestMistakes(t *testing.T) {
	for name, tt := range map[string]struct{ text, want string }{
		"nothing":        {"", "1:1 empty: the rules file is empty"},
		"only a comment": {"# hello\n", "1:1 empty: the rules file is empty"},
		"not YAML":       {"a: [1\nb: 'x\n", "2:4 yaml: this quote is not closed"},
		"a list":         {"- a\n", "1:1 type: the rules file must be a mapping of keys, and this is a list"},
		"no version": {"rules: [{name: a, watch: b}]\n",
			"1:1 missing: the rules file does not say which version"},
		"newer version": {"version: 2\nrules: [{name: a, watch: b}]\n", "this program reads version 1"},
		"no rules":      {"version: 1\n", "there is no rule in this file"},
		"two documents": {head + "  - {name: a, watch: b}\n---\nx: 1\n", "here begins a second"},
		"unknown key": {head + "  - {name: a, watch: b, debonce: 1s}\n",
			"3:25 unknown-key: a rule has no key named debonce (did you mean debounce?)"},
		"key twice": {head + "  - name: a\n    watch: b\n    watch: c\n",
			"5:5 twice: watch stands twice; the first is on line 4"},
		"no name":  {head + "  - watch: b\n", "3:5 missing: this rule has no name"},
		"bad name": {head + "  - {name: 'a/b', watch: b}\n", `name: "a/b" cannot name a rule`},
		"no watch": {head + "  - name: a\n", "3:5 missing: this rule does not say which folder"},
		"name twice": {head + "  - {name: a, watch: b}\n  - {name: a, watch: b}\n",
			"another rule named a, on line 3"},
		"time": {head + "  - {name: a, watch: b, debounce: 5}\n",
			`time: "5" is not a time (write a number with its unit`},
		"wrong type": {head + "  - {name: a, watch: b, retry: often}\n",
			"retry must be a mapping of keys, and this is a text (the keys here are "},
		"retry key": {head + "  - {name: a, watch: b, retry: {time: 3}}\n", "did you mean times?"},
		"factor": {head + "  - {name: a, watch: b, retry: {factor: 0.5}}\n",
			"factor must be at least 1"},
		"placeholder": {head + "  - {name: a, watch: b, run: 'cp {fil}'}\n",
			"3:34 unknown-placeholder: there is no placeholder {fil} (did you mean {file}?)"},
		"capture as " +
			"word": {head + "  - {name: a, watch: b, match: '<statoin>.csv', processed: 'x/{station}'}\n",
			"(did you mean {statoin}?)"},
		"partial capture": {head + "  - {name: a, watch: b, match: ['<n>.csv', 'x'], processed: 'x/{n}'}\n",
			"there is no placeholder {n}"},
		"built-in as capture": {head + "  - {name: a, watch: b, match: '<file>'}\n",
			"file is a built-in placeholder"},
		"format": {head + "  - {name: a, watch: b, processed: 'x/{size:%Y}'}\n",
			"{size} is not a date, so it takes no format"},
		"shell": {head + "  - {name: a, watch: b, run: 'a > b'}\n",
			`">" means nothing here (put shell features into a script`},
		"pattern": {head + "  - {name: a, watch: b, match: [ok, 'x[']}\n",
			"3:39 pattern: this [ has no ]"},
		"two verbs":         {head + "  - {name: a, watch: b, run: x, script: y}\n", "one of do, run and script"},
		"misspelled verb":   {head + "  - {name: a, watch: b, do: [{mve: x}]}\n", "did you mean move?"},
		"key near two":      {head + "  - {name: a, watch: b, pol: x}\n", "did you mean poll or pool?"},
		"no such key":       {head + "  - {name: a, watch: b, zzzzzzz: x}\n", "the keys here are again, again_on"},
		"no such verb":      {head + "  - {name: a, watch: b, do: [{grow: x}]}\n", "the keys here are copy, discard"},
		"step without verb": {head + "  - {name: a, watch: b, do: [{timeout: 1s}]}\n", "this step has no verb"},
		"name with slash": {head + "  - {name: a, watch: b, processed: {to: x, as: 'a/b'}}\n",
			"as: is a name, and a name holds no /"},
		"default name": {"version: 1\ndefaults: {name: x}\nrules: [{name: a, watch: b}]\n",
			"a name cannot be a default"},
		"empty value": {head + "  - name: a\n    watch:\n", "watch has no value"},
		"merge of itself": {head + "  - &a\n    name: a\n    watch: b\n    <<: *a\n",
			"this merge key leads to itself"},
		"too large": {head + "  - {name: a, watch: b, size: ..10EB}\n", `"..10EB" is not a range of sizes`},
		"too much kept": {"version: 1\nkeep_replaced: 10EB\nrules: [{name: a, watch: b}]\n",
			`"10EB" is not a size`},
		"no range":     {head + "  - {name: a, watch: b, size: ..}\n", `".." is not a range of sizes`},
		"from the top": {head + "  - {name: a, watch: b, age: 3d..1d}\n", `"3d..1d" is not a range of ages`},
		"no anchor":    {head + "  - {name: a, watch: *x}\n", "no anchor named &x"},
	} {
		t.Run(name, func(t *testing.T) {
			_, diags := parse(tt.text)
			require.True(t, diags.Failed())
			var all []string
			for _, d := range diags {
				line := fmt.Sprintf("%d:%d %s: %s", d.Line, d.Column, d.Code, d.Message)
				if d.Hint != "" {
					line += " (" + d.Hint + ")"
				}
				all = append(all, line)
			}
			require.Contains(t, strings.Join(all, "\n"), tt.want)
		})
	}
}

// What a key that is not read may have been is not told to be missing.
func TestNothingIsMissingWhereAKeyWasNotRead(t *testing.T) {
	for _, text := range []string{
		"format: 1\nrules: [{name: a, watch: b}]\n",
		head + "  - {name: a, path: b}\n",
		head + "  - {name: a, watch: b, do: [{grow: x}]}\n",
		head + "  - {name: a, watch: b, do: [{move: x, mve: y}]}\n",
		head + "  - {name: a, watch: b, processed: {zzzzzz: x}}\n",
	} {
		_, diags := parse(text)
		require.Len(t, diags, 1, text)
		require.Equal(t, "unknown-key", diags[0].Code)
	}
}

func TestRanges(t *testing.T) {
	f, diags := parse(head + "  - {name: a, watch: b, size: 5MB..5MB, age: ..2h}\n" +
		"  - {name: c, watch: d, size: 1KiB.., age: 1h .. 30d}\n")
	require.Empty(t, diags)
	a, c := f.All()[0], f.All()[1]
	require.Equal(t, []int64{5e6, 5e6}, []int64{a.Size.Low, a.Size.Top})
	require.Equal(t, []time.Duration{0, 2 * time.Hour}, []time.Duration{a.Age.Low, a.Age.Top})
	require.Equal(t, []int64{1024, math.MaxInt64}, []int64{c.Size.Low, c.Size.Top})
	require.Equal(t, []time.Duration{time.Hour, 30 * 24 * time.Hour}, []time.Duration{c.Age.Low, c.Age.Top})
}

func TestMistakesAreReportedTogether(t *testing.T) {
	_, diags := parse("version: 1\nworkes: 2\nrules:\n  - {name: a, watch: b, run: 'x {fil}'}\n  - {nam: c}\n")
	n, _ := diags.Count()
	require.Equal(t, 4, n, "%v", diags)
	require.Equal(t, "workes: 2", diags[0].Quote)
}

func TestDefaultsAndInheritance(t *testing.T) {
	f, diags := parse(`version: 1
defaults:
  debounce: 2s
  failed: failed
  retry: {times: 5, delay: 1s}
rules:
  - {name: a, watch: in, match: .csv}
  - {name: b, watch: [x, /abs/y/], debounce: 0s, retry: 1, failed: {to: other, as: "{stem}.bad"}}
  - name: c
    watch: in
    run: ./convert {file}
    retry: {never_on_exit: [65]}
`)
	require.Empty(t, diags)
	a, b, c := f.All()[0], f.All()[1], f.All()[2]
	require.Equal(t, 2*time.Second, a.Debounce.Duration)
	require.Equal(t, "failed", a.Failed.To.S)
	require.Equal(t, 5, a.Retry.Times)
	require.Equal(t, []string{"/office/in"}, a.Folders)
	require.True(t, a.Matcher.Fits("X.CSV", "X.CSV"))
	require.Equal(t, []string{"/office/x", "/abs/y"}, b.Folders)
	require.Equal(t, time.Duration(0), b.Debounce.Duration)
	require.Equal(t, 1, b.Retry.Times)
	require.Equal(t, time.Second, b.Retry.Delay.Duration, "a number changes the count alone")
	require.Equal(t, "other", b.Failed.To.S)
	require.Equal(t, "failed", a.Failed.To.S, "a rule's own value does not change the default")
	require.Equal(t, 2, c.Retry.Times, "a mapping begins from the built-in values")
	require.Equal(t, []int{65}, c.Retry.NeverExit)
	require.Len(t, c.Steps, 1)
	require.Equal(t, "/office/.stilltide", f.StateFolder())
	require.Equal(t, 2, f.WorkerCount())
	f.Machine.CPUs = 7
	require.Equal(t, 7, f.WorkerCount())
}

func TestAnchorsAndMerges(t *testing.T) {
	f, diags := parse("version: 1\nrules:\n  - &base\n    name: a\n    watch: in\n    debounce: 3s\n  - <<: " +
		"*base\n    name: b\n")
	require.Empty(t, diags)
	require.Equal(t, 3*time.Second, f.All()[1].Debounce.Duration)
	require.Equal(t, "b", f.All()[1].Name.S)
}

func TestDurations(t *testing.T) {
	for text, want := range map[string]time.Duration{
		"0": 0, "0s": 0, "500ms": 500 * time.Millisecond, "1.5s": 1500 * time.Millisecond,
		"1h30m": 90 * time.Minute, "90d": 90 * 24 * time.Hour, "2w": 14 * 24 * time.Hour,
	} {
		got, err := rule.ParseDuration(text)
		require.NoError(t, err, text)
		require.Equal(t, want, got, text)
	}
	for _, text := range []string{"", "5", "s", "-1s", "1x", "1s2", "1..2s", "99999999w"} {
		_, err := rule.ParseDuration(text)
		require.Error(t, err, text)
	}
}

func TestNearest(t *testing.T) {
	require.Equal(t, "debounce", diag.Nearest("debonuce", []string{"depth", "debounce", "do"}))
	require.Equal(t, "match", diag.Nearest("mach", []string{"watch", "match"}))
	require.Empty(t, diag.Nearest("elephant", []string{"watch", "match"}))
}

func FuzzParse(f *testing.F) {
	f.Add(head + "  - {name: a, watch: b, run: 'x {file}', retry: {times: 1}}\n")
	f.Add("version: 1\ndefaults: {debounce: 1s}\nrules:\n  - &a\n    name: x\n    watch: [y]\n  - <<: *a\n")
	f.Add("a: [1\n")
	f.Fuzz(func(t *testing.T, text string) {
		file, diags := parse(text)
		if file == nil {
			t.Fatal("no file")
		}
		if !diags.Failed() && len(file.All()) == 0 {
			t.Fatal("no rule, and no error")
		}
		for _, d := range diags {
			if d.Message == "" || d.Line < 1 || d.Column < 1 {
				t.Fatalf("a diagnostic without message or place: %+v", d)
			}
		}
	})
}

// What is read, but hardly meant so, is a warning that says what to write.
func TestDoubtsAboutTexts(t *testing.T) {
	const head = "version: 1\nrules:\n  - name: slips\n    watch: in\n    processed: done\n"
	for text, want := range map[string]string{
		"    match: " +
			"\"berth-[0-9]+.pdf\"\n": `"berth-[0-9]+.pdf" looks like a regular expression, and is read as a plain pattern`,
		"    match: 're:berth-[0-9]+\\.pdf'\n": "",
		"    match: \"*.{csv,txt}\"\n":         "",
		"    script: cp {name} " +
			"elsewhere\n": "nothing is filled into the text of a script, so {name} " +
			"stays as it is",
		"    script: cp \"${name}\" elsewhere; awk '{print}' \"$1\"\n": "",
	} {
		f, diags := Parse("/srv/stilltide.yaml", []byte(head+text))
		require.False(t, diags.Failed(), "%s: %v", text, diags)
		require.NotNil(t, f)
		var got string
		for _, d := range diags {
			got += d.Message
			require.NotEmpty(t, d.Hint)
		}
		require.Equal(t, want, got, text)
	}
}

// An address in a list of one line looks like a mapping to YAML; the hint says so.
func TestAnAddressWithoutQuotes(t *testing.T) {
	_, diags := Parse("/rules/stilltide.yaml", []byte(`version: 1
fleet: {server: [nats://127.0.0.1:4222], key_file: office.nk}
rules:
  - {name: a, watch: in, processed: done}
`))
	require.True(t, diags.Failed())
	require.Contains(t, diags[0].Hint, "put the address in quotes")
}
