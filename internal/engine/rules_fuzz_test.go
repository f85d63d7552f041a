//go:build linux

package engine

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"stilltide/internal/advice"
	"stilltide/internal/core/diag"
	"stilltide/internal/core/notation"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/look"
)

// FuzzRules takes whole rules files with many rules through all that check and preview
// do with them: whatever they say, nothing may crash, and nothing may be touched.
func FuzzRules(f *testing.F) {
	for _, text := range []string{
		"rules:\n  - {name: a, watch: A, do: [{mirror: B}]}\n  - {name: b, watch: B, do: [{mirror: A}]}\n",
		"rules:\n  - {name: a, watch: A, do: [{copy: B}]}\n  - {name: b, watch: B, do: [{move: A}]}\n  - {name: " +
			"c, watch: ., depth: all, processed: \"{folder}\"}\n",
		"rules:\n  - {name: a, watch: \"*\", unit: folder, processed: {to: A, as: \"{name}\"}}\n  - {name: b, " +
			"watch: A, failed: \"{watch}/{rel_folder}\"}\n",
		"vars: {x: A}\nrules:\n  - {name: a, watch: [A, B, link], share: true, do: [{script: x, save: w}, {copy: " +
			"\"{w}\", where: 'exists(\"{w}\") && exit_code == 0'}]}\n",
	} {
		f.Add("version: 1\n" + text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		dir := t.TempDir()
		for _, name := range []string{"A/one.csv", "B/two.txt", "A/sub/three"} {
			path := filepath.Join(dir, name)
			if err := os.MkdirAll(filepath.Dir(path), 0o777); err != nil {
				t.Fatal(err)
			}
			if err := os.WriteFile(path, []byte(name), 0o666); err != nil {
				t.Fatal(err)
			}
		}
		_ = os.Symlink("A", filepath.Join(dir, "link"))
		rules, diags := notation.Parse(filepath.Join(dir, rule.FileName), []byte(text))
		havePlaces(t, diags)
		if diags.Failed() {
			return
		}
		for _, r := range rules.All() {
			for _, folder := range r.Folders {
				if rest, ok := plan.Below(folder, dir); !ok || len(rest) > 40 {
					return // a folder of somebody else is none of this test's business
				}
			}
		}
		havePlaces(t, advice.Doubts(rules))
		havePlaces(t, advice.Examples(rules, time.Now()))
		set := look.NewSet(rules)
		set.Loops()
		if err := advice.Preview(set, nil, nil, time.Now(), func(advice.Foreseen) {}); err != nil {
			t.Log(err)
		}
		for _, name := range []string{"A/one.csv", "B/two.txt", "A/sub/three"} {
			if have, err := os.ReadFile(filepath.Join(dir, name)); err != nil || string(have) != name {
				t.Fatalf("%s was touched: %q, %v", name, have, err)
			}
		}
	})
}

func havePlaces(t *testing.T, diags diag.List) {
	for _, d := range diags {
		if d.Line < 1 || d.Column < 1 || d.About() == "" {
			t.Fatalf("%q has no place: %s", d.Message, d.Pos)
		}
	}
}
