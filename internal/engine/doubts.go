package engine

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"stilltide/internal/core/fill"
	"stilltide/internal/core/rule"
)

// Doubts looks at the machine for what would let correct rules fail: programs
// that are not there, folders that are not there.
func Doubts(f *rule.File) rule.Diagnostics {
	var d rule.Diagnostics
	warn := func(at rule.Pos, code, message, hint string) {
		d = append(d, rule.Diagnostic{Pos: at, Severity: rule.SeverityWarning, Code: code, Message: message, Hint: hint, Quote: quoteLine(at)})
	}
	for _, r := range f.All() {
		for i, folder := range r.Folders {
			if info, err := os.Stat(folder); err != nil {
				warn(r.Watch[i].Pos, "folder-absent", fmt.Sprintf("the folder %s is not there", folder), "it is waited for; make it if that is not meant")
			} else if !info.IsDir() {
				warn(r.Watch[i].Pos, "folder-absent", fmt.Sprintf("%s is not a folder", folder), "name the folder, and the file in match:")
			}
		}
		for i := range r.Steps {
			s := &r.Steps[i]
			if text, words := programOf(s); words != nil {
				if missing := missingProgram(s, words); missing != "" {
					warn(text.Pos, "program", missing, "install it, or correct its path")
				}
			}
		}
		if len(r.Steps) == 0 && r.Processed == nil {
			warn(r.Pos, "does-nothing", fmt.Sprintf("the rule %s takes files and does nothing with them", r.Name.S), "add run:, script: or processed:")
		}
	}
	return d
}

func programOf(s *rule.Step) (rule.Text, *fill.Command) {
	if s.Command != nil {
		return s.Run, s.Command
	}
	return s.Interpreter, s.Shell
}

// missingProgram says in one sentence that a program cannot be started, "" if it can.
func missingProgram(s *rule.Step, c *fill.Command) string {
	first := c.Words[0]
	if len(first.Refs()) > 0 {
		return ""
	}
	program := first.String()
	path := program
	if strings.Contains(path, "/") && !filepath.IsAbs(path) {
		path = filepath.Join(s.Base, path)
	}
	info, err := os.Stat(path)
	switch {
	case !strings.Contains(program, "/"):
		if _, err := exec.LookPath(program); err != nil {
			return fmt.Sprintf("the program %s is not in PATH", program)
		}
	case err != nil:
		return fmt.Sprintf("the program %s is not there", path)
	case info.IsDir() || info.Mode()&0o111 == 0:
		return fmt.Sprintf("the program %s may not be executed", path)
	}
	return ""
}

func quoteLine(at rule.Pos) string {
	src, err := os.ReadFile(at.File)
	if err != nil {
		return ""
	}
	lines := strings.Split(string(src), "\n")
	if at.Line < 1 || at.Line > len(lines) {
		return ""
	}
	return lines[at.Line-1]
}
