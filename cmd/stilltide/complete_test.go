package main

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"stilltide/internal/machine"
)

// office is a folder with rules, channels and jobs that a shell can offer.
func office(t *testing.T) string {
	dir := t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(dir, "in"), 0o777))
	put(t, dir, "stilltide.yaml", `version: 1
defaults: {debounce: 0s, retry: 0}
channels:
  harbour: {webhook: "http://127.0.0.1:9/"}
rules:
  - {name: soundings, watch: in, match: "*.xyz", run: "false"}
  - {name: slips, watch: in, match: "*.txt", processed: done}
`)
	put(t, dir, "in/deep.xyz", "1")
	put(t, dir, "in/slip.txt", "1")
	run(t, dir, "sweep")
	return dir
}

// In bash, zsh and fish the Tab key offers rules, jobs, states, channels and the values of
// options, as they are now.
func TestCompletionInTheShells(t *testing.T) {
	t.Parallel()
	dir := office(t)
	home := t.TempDir()
	shells := []struct {
		name string
		line string // starts it, with its completion
	}{
		{"bash", "bash --noprofile --norc -i"},
		{"zsh", "zsh -f -i"},
		{"fish", "fish --no-config"},
	}
	begin := map[string][]string{
		"bash": {"PS1='$ '; bind 'set show-all-if-ambiguous on' 'set bell-style none'",
			". /usr/share/bash-completion/bash_completion", ". <(stilltide completion bash)"},
		"zsh":  {"PS1='$ '; autoload -Uz compinit; compinit -u -D; setopt no_beep; . <(stilltide completion zsh)"},
		"fish": {"stilltide completion fish | source; function fish_prompt; echo '$ '; end"},
	}
	cases := []struct{ typed, sees string }{
		{"stilltide pause sli", "pause slips"},
		{"stilltide jobs --rule sou", "--rule soundings"},
		{"stilltide sweep --log-format js", "--log-format json"},
		{"stilltide tell har", "tell harbour"},
		{"stilltide jobs --state proc", "--state processed"},
		{"stilltide schema --of prev", "--of preview"},
		{"stilltide retry ", "retry 1"}, // the one that failed
	}
	for _, shell := range shells {
		t.Run(shell.name, func(t *testing.T) {
			machine.Program(t, shell.name)
			if shell.name == "bash" {
				needsFile(t, "/usr/share/bash-completion/bash_completion")
			}
			term := newTerminal(t, dir, "120", "50")
			term.keys("0", "HOME="+home+" exec "+shell.line, "Enter")
			for _, line := range begin[shell.name] {
				term.keys("0", line, "Enter")
			}
			term.keys("0", "echo rea''dy", "Enter")
			term.sees("0", "ready\n")
			anew := func(round int) { // a Ctrl-C in the middle of a completion may leave its line
				term.keys("0", "clear", "Enter")
				term.keys("0", fmt.Sprintf("echo rou''nd%d", round), "Enter")
				term.sees("0", fmt.Sprintf("round%d", round))
			}
			for i, c := range cases {
				anew(i)
				term.keys("0", c.typed, "Tab")
				term.sees("0", c.sees)
				term.keys("0", "C-c", "")
			}
			// A job's number comes with its file.
			anew(len(cases))
			term.keys("0", "stilltide jobs show ", "Tab")
			if shell.name != "bash" {
				term.keys("0", "Tab")
			}
			term.sees("0", "deep.xyz, failed of soundings")
		})
	}
}

func needsFile(t *testing.T, path string) {
	if _, err := os.Stat(path); err != nil {
		machine.Lacks(t, path+" is not there")
	}
}
