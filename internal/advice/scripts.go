package advice

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"time"

	"stilltide/internal/core/diag"
	"stilltide/internal/core/fill"
	"stilltide/internal/core/rule"
)

// reader has an interpreter read a script without running any of it.
type reader struct {
	args []string // before the script's file
}

// readers are the interpreters that can do that.
var readers = map[string]reader{
	"sh": {[]string{"-n"}}, "dash": {[]string{"-n"}}, "bash": {[]string{"-n"}}, "ash": {[]string{"-n"}},
	"ksh": {[]string{"-n"}}, "zsh": {[]string{"-n"}}, "ruby": {[]string{"-c"}}, "node": {[]string{"--check"}},
	"python3": {[]string{"-I", "-S", "-c", "import sys; compile(open(sys.argv[1]).read(), sys.argv[1], 'exec')"}},
}

// readWithin bounds the time that an interpreter may take.
const readWithin = 10 * time.Second

// Scripts has the interpreters of the scripts in the rules read them, without running any, and
// says which cannot. What was read once is remembered by its text in the user's cache folder.
func Scripts(f *rule.File) diag.List {
	var d diag.List
	for _, r := range f.All() {
		for i := range r.Steps {
			s := &r.Steps[i]
			if s.Script.S == "" {
				continue
			}
			if why := unreadable(s); why != "" {
				d = append(d, diag.Diagnostic{Pos: s.Script.Pos, Severity: diag.SeverityWarning, Code: "script",
					Message: why, Hint: "it would fail for every file", Quote: quoteLine(s.Script.Pos)})
			}
		}
	}
	return d
}

// unreadable says in one sentence why a script's interpreter cannot read it, "" if it can, or
// cannot be asked.
func unreadable(s *rule.Step) string {
	words := interpreterOf(s)
	if len(words) > 0 && filepath.Base(words[0]) == "env" {
		words = words[1:]
	}
	if len(words) == 0 {
		return ""
	}
	name := filepath.Base(words[0])
	how, known := readers[name]
	program, err := exec.LookPath(words[0])
	if !known || err != nil {
		return ""
	}
	memory := remembered(program, s.Script.S)
	if memory != "" {
		if text, err := os.ReadFile(memory); err == nil {
			return string(text)
		}
	}
	why := ask(name, program, how, s.Script.S)
	if memory != "" && os.MkdirAll(filepath.Dir(memory), 0o700) == nil {
		_ = os.WriteFile(memory, []byte(why), 0o600) // else it is asked again
	}
	return why
}

// interpreterOf is what runs a script: its first line says so, or interpreter:, or it is sh.
func interpreterOf(s *rule.Step) []string {
	first, _, _ := strings.Cut(s.Script.S, "\n")
	if line, is := strings.CutPrefix(first, "#!"); is {
		return strings.Fields(line)
	}
	if s.Shell != nil {
		return fixedWords(s.Shell)
	}
	return []string{"sh"}
}

// fixedWords are the words of a command that nothing is filled into.
func fixedWords(c *fill.Command) (words []string) {
	for _, w := range c.Words {
		if len(w.Refs()) > 0 {
			return words
		}
		words = append(words, w.String())
	}
	return words
}

// remembered is where the answer of an interpreter on a text is kept, "" for nowhere.
func remembered(program, text string) string {
	cache, err := os.UserCacheDir()
	if err != nil {
		return ""
	}
	info, err := os.Stat(program)
	if err != nil {
		return ""
	}
	sum := sha256.Sum256(fmt.Append(nil, program, info.ModTime().UnixNano(), "\x00", text))
	return filepath.Join(cache, "stilltide", "scripts", hex.EncodeToString(sum[:16]))
}

// telling fits the line of an interpreter's complaint that says the most.
var telling = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`(?i)error|unexpected|expected|unterminated`)
})

// ask has the interpreter read a text.
func ask(name, program string, how reader, text string) string {
	folder, err := os.MkdirTemp("", "stilltide-check-")
	if err != nil {
		return ""
	}
	defer os.RemoveAll(folder)
	path := filepath.Join(folder, "script")
	if name == "node" {
		path += ".js"
	}
	if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
		return ""
	}
	ctx, cancel := context.WithTimeout(context.Background(), readWithin)
	defer cancel()
	cmd := exec.CommandContext(ctx, program, append(how.args, path)...)
	cmd.Dir, cmd.Env = folder, []string{"PATH=" + os.Getenv("PATH"), "LC_ALL=C"}
	out, err := cmd.CombinedOutput()
	if err == nil || ctx.Err() != nil {
		return ""
	}
	said := ""
	for line := range strings.SplitSeq(strings.ReplaceAll(string(out), path, "script"), "\n") {
		if line = strings.TrimSpace(line); said == "" || telling().MatchString(line) && !telling().MatchString(said) {
			said = line
		}
	}
	return fmt.Sprintf("%s cannot read this script: %s", name, said)
}
