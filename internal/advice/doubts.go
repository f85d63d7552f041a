package advice

import (
	"errors"
	"fmt"
	"maps"
	"mime"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"stilltide/internal/core/diag"
	"stilltide/internal/core/fill"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/core/take"
	"stilltide/internal/look"
)

// Doubts looks at the machine for what would let correct rules fail: programs
// that are not there, folders that are not there.
func Doubts(f *rule.File) diag.List {
	var d diag.List
	var warn warning = func(at rule.Pos, code, message, hint string) {
		if at.Line == 0 { // a default that stands nowhere
			at = rule.Pos{File: f.Path, Line: 1, Column: 1}
		}
		d = append(d, diag.Diagnostic{Pos: at, Severity: diag.SeverityWarning, Code: code, Message: message,
			Hint: hint, Quote: quoteLine(at)})
	}
	set, machine := look.NewSet(f), look.NewAsked()
	for _, ring := range set.Loops() {
		warn(placesAt(ring[0]), "loop", loopText(ring),
			"a file stops when it comes to a rule for the second time; change a folder if that is not meant")
	}
	for _, r := range set.SetThemselves() {
		warn(r.AgainOn[0].Pos, "loop",
			r.Name.S+" puts files into the folder of its again_on, so its own work may have "+
				"all of it done again", "put them elsewhere, or name the files of again_on one by one")
	}
	for _, r := range set.StaysPut() {
		warn(r.To.Pos, "stays", "this is the folder that the files are in already, so they stay",
			"leave it out, or name another folder")
	}
	for _, l := range LooseFiles(f) {
		warn(rule.Pos{File: f.Path, Line: 1, Column: 1}, "changeable",
			fmt.Sprintf("%s can change %s, and so run commands as you", l.Who, l.Path),
			"remove that permission (chmod, chown); watch and sweep refuse it otherwise")
	}
	oldNames(f, warn)
	emptyState(f, warn)
	d = append(d, channels(f, machine)...)
	for _, r := range f.All() {
		if earlier := set.Shadowed(r); earlier != nil {
			warn(r.Name.Pos, "never-taken",
				fmt.Sprintf("the rule %s can never take a file, because %s before it takes them all", r.Name.S,
					earlier.Name.S), "put it before "+earlier.Name.S)
		}
		destinations(r, machine, warn)
		watched(r, machine, warn)
		patternDoubts(r, warn)
		placeDoubts(r, warn)
		nameDoubts(r, warn)
		ownResults(r, warn)
		if t := r.Retry; t.MaxDelay.Pos.Line > 0 && t.MaxDelay.Duration < t.Delay.Duration {
			warn(t.MaxDelay.Pos, "max-delay", "no wait is longer than max_delay, so this delay never counts",
				"write a longer max_delay, or a shorter delay")
		}
		for i := range r.Steps {
			programDoubts(r, &r.Steps[i], machine, warn)
			inProgramText(&r.Steps[i], warn)
		}
		awayDoubts(r, warn)
		if len(r.Steps) == 0 && r.Processed == nil {
			warn(r.Pos, "does-nothing", fmt.Sprintf("the rule %s takes files and does nothing with them", r.Name.S),
				"add run:, script: or processed:")
		}
	}
	return d
}

// oldNames doubts old names by which a rule gets no memory.
func oldNames(f *rule.File, warn warning) {
	renamed := f.Renamed()
	for _, r := range f.All() {
		switch taker := renamed[r.OldName.S]; {
		case !r.OldName.Set() || taker == r.Name.S:
		case r.OldName.S == r.Name.S:
			warn(r.OldName.Pos, "old-name", r.Name.S+" is the name that the rule has now", "leave old_name out")
		case taker == "":
			warn(r.OldName.Pos, "old-name", fmt.Sprintf("there is still a rule %s, so %s does not get its memory",
				r.OldName.S, r.Name.S), "leave old_name out, or remove the other rule")
		default:
			warn(r.OldName.Pos, "old-name", fmt.Sprintf("%s has this old name, too, and gets the memory of %s",
				taker, r.OldName.S), "leave old_name out of one of them")
		}
	}
}

// warning notes a doubt.
type warning func(at rule.Pos, code, message, hint string)

// watched doubts watched folders that are not there, or do not answer, and those that a rule cannot take files out of.
func watched(r *rule.Rule, machine look.Asked, warn warning) {
	for i, folder := range r.Folders {
		if len(r.Watch) != len(r.Folders) {
			break // one of them has an error of its own
		}
		if info, err := machine.Stat(folder); errors.As(err, new(plan.NoAnswer)) {
			warn(r.Watch[i].Pos, "no-answer", err.Error(), "the rule waits until it does")
		} else if err != nil {
			warn(r.Watch[i].Pos, "folder-absent", fmt.Sprintf("the folder %s is not there", folder),
				"the watcher waits for it; make it if you want it now")
		} else if !info.IsDir() {
			warn(r.Watch[i].Pos, "folder-absent", fmt.Sprintf("%s is not a folder", folder),
				"name the folder, and the file in match:")
		} else if r.Moves() && !writable(folder) {
			warn(r.Watch[i].Pos, "folder-not-writable",
				fmt.Sprintf("files cannot be taken out of the folder %s by this user", folder),
				"a job would wait until they can")
		}
	}
}

// programDoubts doubts what a step runs.
func programDoubts(r *rule.Rule, s *rule.Step, machine look.Asked, warn warning) {
	if word := leadingName(r, s); word != "" {
		warn(s.Run.Pos, "leading-dash",
			fmt.Sprintf("a word of this command begins with {%s}, and a name that begins with a dash "+
				"would be read as an option", word), "use {file}, or put a folder or -- before it")
	}
	if text, words := programOf(s); words != nil {
		if missing := missingProgram(machine, s.Base, words); missing != "" && !r.Travels() {
			warn(text.Pos, "program", missing, "install it, or correct its path")
		}
		if path, who := looseProgram(words); who != "" {
			warn(text.Pos, "program-changeable", fmt.Sprintf("%s can change the program %s", who, path),
				"remove that permission (chmod, chown)")
		}
	}
}

// loopText says which rules lead back to one another.
func loopText(ring []*rule.Rule) string {
	var names []string
	for _, r := range ring {
		names = append(names, r.Name.S)
	}
	return fmt.Sprintf("the rules %s form a loop: each takes what the one before places",
		strings.Join(append(names, names[0]), " → "))
}

// placesAt is where a rule says where its files go.
func placesAt(r *rule.Rule) rule.Pos {
	if r.Processed != nil {
		return r.Processed.To.Pos
	}
	for i := range r.Steps {
		if p, t := r.Steps[i].Destination(); t != nil {
			return p.Pos
		}
	}
	return r.Pos
}

// channels warns of notices that could not be sent from here.
func channels(f *rule.File, machine look.Asked) diag.List {
	var d diag.List
	warn := func(at rule.Pos, code, message, hint string) {
		if at.Line == 0 { // a default that stands nowhere
			at = rule.Pos{File: f.Path, Line: 1, Column: 1}
		}
		d = append(d, diag.Diagnostic{Pos: at, Severity: diag.SeverityWarning, Code: code, Message: message,
			Hint: hint, Quote: quoteLine(at)})
	}
	for _, name := range slices.Sorted(maps.Keys(f.Channels)) {
		c := f.Channels[name]
		variables := []rule.Text{c.Secret}
		if c.Mail != nil {
			variables = append(variables, c.Mail.Password)
		}
		for _, v := range variables {
			if v.Set() && os.Getenv(v.S) == "" {
				warn(v.Pos, "secret", fmt.Sprintf("the environment variable %s is not set here, and the channel "+
					"%s needs it", v.S, name), "set it where the watcher is started")
			}
		}
		if c.Run != nil {
			if missing := missingProgram(machine, c.Base, c.Run); missing != "" {
				warn(c.Command.Pos, "program", missing, "install it, or correct its path")
			}
		}
	}
	return d
}

// Examples tries the rules' examples; each difference is an error.
func Examples(f *rule.File, now time.Time) diag.List {
	var d diag.List
	set := look.NewSet(f)
	for _, r := range f.All() {
		for i := range r.Examples {
			for _, wrong := range take.Example(set, r, &r.Examples[i], mime.TypeByExtension, now) {
				at := r.Examples[i].Pos
				d = append(d, diag.Diagnostic{Pos: at, Severity: diag.SeverityError, Code: "example",
					Message: "this example differs: " + wrong, Quote: quoteLine(at)})
			}
		}
	}
	return d
}

// destinations doubts places that exist and cannot be written to.
func destinations(r *rule.Rule, machine look.Asked, warn warning) {
	for _, p := range r.Places() {
		unwritable(p.To, plan.FixedFolder(p), "a job would wait until it can", machine, warn)
	}
	for i := range r.Steps {
		if to, _ := r.Steps[i].Destination(); to != nil && !r.Steps[i].Stdout.Set() {
			folder := plan.FixedFolder(&rule.Place{To: *to, Folder: r.Steps[i].Folder})
			unwritable(*to, folder, "the step would fail", machine, warn)
		}
	}
}

// unwritable doubts a place if the nearest folder above it that is there cannot be written to. Where a place begins
// with a word, only a run can tell.
func unwritable(to rule.Path, folder, hint string, machine look.Asked, warn warning) {
	if strings.HasPrefix(to.S, "{") {
		return
	}
	for folder != filepath.Dir(folder) {
		_, err := machine.Stat(folder)
		if errors.As(err, new(plan.NoAnswer)) {
			return
		}
		if err == nil {
			break
		}
		folder = filepath.Dir(folder)
	}
	if !writable(folder) {
		warn(to.Pos, "folder-not-writable", fmt.Sprintf("the folder %s cannot be written to by this user", folder),
			hint)
	}
}

func programOf(s *rule.Step) (rule.Text, *fill.Command) {
	if s.Command != nil {
		return s.Run, s.Command
	}
	return s.Interpreter, s.Shell
}

// leadingName finds a word of a command that begins with part of a file's name.
func leadingName(r *rule.Rule, s *rule.Step) string {
	if s.Command == nil {
		return ""
	}
	risky := append([]string{"name", "stem", "rel"}, r.Captures()...)
	for i, w := range s.Command.Words {
		if i > 0 && w.String() != "--" && s.Command.Words[i-1].String() != "--" {
			if ref := w.Leading(); ref != nil && slices.Contains(risky, ref.Word) {
				return ref.Word
			}
		}
	}
	return ""
}

// Program says in one sentence that a program cannot be started from a folder, "" if it can.
func Program(folder, program string) string {
	c, err := fill.ParseCommand(fill.QuoteWord(program))
	if err != nil {
		return ""
	}
	return missingProgram(look.NewAsked(), folder, c)
}

// missingProgram says in one sentence that a program cannot be started, "" if it can.
func missingProgram(machine look.Asked, base string, c *fill.Command) string {
	first := c.Words[0]
	if len(first.Refs()) > 0 {
		return ""
	}
	program := first.String()
	path := program
	if strings.Contains(path, "/") && !filepath.IsAbs(path) {
		path = filepath.Join(base, path)
	}
	info, err := machine.Stat(path)
	switch {
	case errors.As(err, new(plan.NoAnswer)):
		return ""
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

// Lacking says of the rules whose program is not there which that is.
func Lacking(f *rule.File) map[string]string {
	lacking, machine := map[string]string{}, look.NewAsked()
	for _, r := range f.All() {
		for i := range r.Steps {
			if _, words := programOf(&r.Steps[i]); r.Enabled && words != nil && !r.Travels() {
				if missing := missingProgram(machine, r.Steps[i].Base, words); missing != "" {
					lacking[r.Name.S] = missing
				}
			}
		}
	}
	return lacking
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
