package main

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"stilltide/internal/machine"
)

// built builds the program once for the tests that start it themselves.
var built = sync.OnceValues(func() (string, error) { return machine.Build("stilltide/cmd/stilltide") })

// needs skips a test whose programs are not there.
func needs(t *testing.T, programs ...string) {
	t.Helper()
	for _, p := range programs {
		machine.Program(t, p)
	}
}

// terminal is a real terminal (tmux) with a shell in it.
type terminal struct {
	t      *testing.T
	socket string
}

func newTerminal(t *testing.T, dir string, wide, high string) *terminal {
	t.Helper()
	needs(t, "tmux")
	program, err := built()
	require.NoError(t, err)
	term := &terminal{t: t, socket: filepath.Join(t.TempDir(), "tmux")}
	term.tmux("-f", "/dev/null", "new-session", "-d", "-x", wide, "-y", high, "-c", dir, "env", "PS1=> ",
		"PATH="+filepath.Dir(program)+":"+os.Getenv("PATH"), "sh")
	t.Cleanup(func() { _ = exec.Command("tmux", "-S", term.socket, "kill-server").Run() })
	term.sees("0", ">") // what is typed before the shell asks for it stands on the screen twice
	return term
}

func (term *terminal) tmux(args ...string) string {
	term.t.Helper()
	out, err := exec.Command("tmux", append([]string{"-S", term.socket}, args...)...).CombinedOutput()
	require.NoError(term.t, err, string(out))
	return string(out)
}

// keys types; names such as Enter, Escape and C-c are keys.
func (term *terminal) keys(pane string, keys ...string) {
	term.t.Helper()
	term.tmux(append([]string{"send-keys", "-t", pane}, keys...)...)
}

func (term *terminal) screen(pane string) string {
	term.t.Helper()
	return term.tmux("capture-pane", "-p", "-t", pane)
}

// sees waits until a text is on the screen.
func (term *terminal) sees(pane, text string) string {
	term.t.Helper()
	for end := time.Now().Add(patience); ; time.Sleep(20 * time.Millisecond) {
		screen := term.screen(pane)
		if strings.Contains(screen, text) {
			return screen
		}
		if time.Now().After(end) {
			term.t.Fatalf("waited too long for %q; the screen is\n%s", text, screen)
		}
	}
}

// What a command of quick finds in a terminal is the command's own: its width and colours, its
// input, Ctrl-C; and the prompt comes back on a line of its own.
func TestQuickGivesItsCommandTheTerminal(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	put(t, dir, "notes.txt", "one\n")
	put(t, dir, "ask.sh", "test -t 0 && test -t 1 && echo tty $(tput cols)\nread -r answer\necho got $answer\n")
	term := newTerminal(t, dir, "90", "30")
	term.keys("0", "stilltide quick --at-start notes.txt -- sh ask.sh", "Enter")
	term.sees("0", "tty 90")
	term.keys("0", "hello", "Enter")
	term.sees("0", "got hello")
	term.sees("0", "exit code 0")
	put(t, dir, "notes.txt", "two\n")
	require.Eventually(t, func() bool { return strings.Count(term.screen("0"), "tty 90") == 2 }, patience,
		20*time.Millisecond)
	term.keys("0", "C-z") // nobody could continue it
	term.keys("0", "again", "Enter")
	term.sees("0", "got again")
	put(t, dir, "notes.txt", "three\n")
	require.Eventually(t, func() bool { return strings.Count(term.screen("0"), "tty 90") == 3 }, patience,
		20*time.Millisecond)
	term.keys("0", "C-c") // to the command, which ends, and quick with it
	term.sees("0", "ended by SIGINT")
	prompt := func() {
		require.Eventually(t, func() bool {
			lines := strings.Split(strings.TrimRight(term.screen("0"), "\n "), "\n")
			return lines[len(lines)-1] == ">"
		}, patience, 20*time.Millisecond, "the prompt is back, on a line of its own")
	}
	prompt()
	term.keys("0", "clear; stilltide quick notes.txt -- true", "Enter")
	term.sees("0", "End with Ctrl-C")
	term.keys("0", "C-c")
	prompt()
}

// A quick run in a real terminal follows an editor's saves, however it saves.
func TestQuickFollowsAnEditor(t *testing.T) {
	t.Parallel()
	needs(t, "tmux", "vim")
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "notes.txt"), []byte("first line\n"), 0o666))
	term := newTerminal(t, dir, "100", "30")
	term.keys("0", "stilltide quick --clear-screen notes.txt -- cat notes.txt", "Enter")
	term.sees("0", "Watching 1 file in 1 folder")
	term.tmux("new-window", "-d", "-c", dir, "vim", "-u", "NONE", "notes.txt")
	term.sees("1", "first line")
	for _, how := range []string{"nobackup", "backup backupcopy=no", "backup backupcopy=yes"} {
		word := "saved-with-" + strings.ReplaceAll(how, " ", "-")
		term.keys("1", ":set "+how, "Enter", "o"+word, "Escape", ":w", "Enter")
		screen := term.sees("0", word)
		require.Equal(t, 1, strings.Count(screen, "first line"), "the terminal is cleared before each run:\n%s",
			screen)
		term.sees("0", "exit code 0")
	}
	term.keys("1", ":q", "Enter")
	term.keys("0", "C-c")
	term.keys("0", "echo ended with $?", "Enter")
	term.sees("0", "ended with 0")
}

// What a command prints can do nothing to the terminal that follows it.
func TestAFollowedLogIsSafe(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	put(t, dir, "in/a", "x")
	put(t, dir, "stilltide.yaml", "version: 1\nrules:\n  - {name: a, watch: in, debounce: 0s, "+
		"script: 'printf \"\\033[7mturned\\033[0m round\\n\"'}\n")
	run(t, dir, "sweep")
	term := newTerminal(t, dir, "100", "20")
	term.keys("0", "stilltide jobs log 1 --follow", "Enter")
	term.sees("0", "is over")
	require.Contains(t, term.screen("0"), "[7mturned", "it is shown, and not done")
}
