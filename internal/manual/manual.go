// Package manual writes the manual pages: one for each command, made from the command tree, and
// stilltide.yaml(5), made from the model of the rules file. They are in mdoc(7), the language of
// manual pages that names what things are, not how they look.
package manual

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
)

// Write writes all pages into the folders of their sections, man1 and man5, in a folder, which
// are made if they are missing, and returns their names.
func Write(root *cobra.Command, folder string, date time.Time) (names []string, err error) {
	pages := map[string]string{"man5/stilltide.yaml.5": rulesPage(date)}
	names = []string{"man5/stilltide.yaml.5"}
	each(root, func(c *cobra.Command) {
		name := "man1/" + title(c) + ".1"
		pages[name], names = commandPage(c, date), append(names, name)
	})
	for _, name := range names {
		path := filepath.Join(folder, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o777); err != nil {
			return nil, err
		}
		if err := os.WriteFile(path, []byte(pages[name]), 0o666); err != nil {
			return nil, err
		}
	}
	return names, nil
}

// each calls f for a command and all below it that people may call.
func each(c *cobra.Command, f func(*cobra.Command)) {
	f(c)
	for _, sub := range c.Commands() {
		if sub.IsAvailableCommand() && sub.Name() != "help" {
			each(sub, f)
		}
	}
}

// title is the name of a command's page.
func title(c *cobra.Command) string { return strings.ReplaceAll(c.CommandPath(), " ", "-") }

// page is a manual page that grows.
type page struct{ strings.Builder }

func newPage(name string, section int, date time.Time, brief string) *page {
	p := &page{}
	fmt.Fprintf(p, ".Dd %s\n.Dt %s %d\n.Os\n.Sh NAME\n.Nm %s\n.Nd %s\n", date.Format("January 2, 2006"),
		strings.ToUpper(name), section, name, escaped(lowerFirst(brief)))
	return p
}

// text adds paragraphs; lines that begin with four spaces, or a tab, stand as they are.
func (p *page) text(s string) {
	literal, gap := false, false
	for line := range strings.SplitSeq(strings.TrimRight(s, "\n"), "\n") {
		code, is := codeLine(line)
		switch {
		case is && !literal:
			p.WriteString(".Bd -literal -offset indent\n")
		case is && gap:
			p.WriteString("\n")
		case is:
		case line == "":
			gap = true
			continue
		case literal:
			p.WriteString(".Ed\n.Pp\n")
		case gap:
			p.WriteString(".Pp\n")
		}
		if literal, gap = is, false; is {
			p.WriteString(escaped(code) + "\n")
		} else {
			p.sentences(line)
		}
	}
	if literal {
		p.WriteString(".Ed\n")
	}
}

// codeLine returns a line that stands as it is, without its indentation.
func codeLine(line string) (code string, is bool) {
	if code, is = strings.CutPrefix(line, "    "); is {
		return code, true
	}
	return strings.CutPrefix(line, "\t")
}

// sentences adds a line of text; mdoc wants each sentence to begin on a line of its own.
func (p *page) sentences(line string) {
	for _, end := range []string{". ", "? ", "! "} {
		line = strings.ReplaceAll(line, end, strings.TrimSpace(end)+"\n")
	}
	for one := range strings.SplitSeq(line, "\n") {
		for _, part := range filled(one) {
			p.WriteString(escaped(part) + "\n")
		}
	}
}

// filled breaks a line at its spaces into lines of at most 78 characters.
func filled(line string) (lines []string) {
	const most = 78
	for len(line) > most {
		at := strings.LastIndexByte(line[:most], ' ')
		if at <= 0 {
			break
		}
		lines, line = append(lines, line[:at]), line[at+1:]
	}
	return append(lines, line)
}

// item begins an entry of a list.
func (p *page) item(head string) { p.WriteString(".It " + head + "\n") }

// commandPage is the page of one command.
func commandPage(c *cobra.Command, date time.Time) string {
	p := newPage(title(c), 1, date, c.Short)
	p.WriteString(".Sh SYNOPSIS\n")
	fmt.Fprintf(p, ".Nm %s\n", c.CommandPath())
	p.WriteString(".Op Ar options\n")
	_, words, _ := strings.Cut(c.Use, " ")
	for one := range strings.FieldsSeq(words) {
		switch inner, begins := strings.CutPrefix(one, "["); {
		case begins:
			fmt.Fprintf(p, ".Oo\n.Ar %s\n", quoted(strings.TrimSuffix(inner, "]")))
		default:
			fmt.Fprintf(p, ".Ar %s\n", quoted(strings.TrimSuffix(one, "]")))
		}
		if strings.HasSuffix(one, "]") {
			p.WriteString(".Oc\n")
		}
	}
	p.WriteString(".Sh DESCRIPTION\n")
	long := c.Long
	if long == "" {
		long = c.Short + "."
	}
	p.text(long)
	p.options("OPTIONS", c.NonInheritedFlags())
	p.options("OPTIONS OF ALL COMMANDS", c.InheritedFlags())
	p.WriteString(".Sh EXIT STATUS\n0: it did what it was asked; 1: something failed or was found; " +
		"2: wrong usage\nor wrong rules; 3: another watcher holds the ledger.\n")
	p.seeAlso(c)
	return p.String()
}

func (p *page) options(head string, flags *pflag.FlagSet) {
	if !flags.HasAvailableFlags() {
		return
	}
	p.WriteString(".Sh " + head + "\n.Bl -tag -width indent\n")
	flags.VisitAll(func(f *pflag.Flag) {
		if f.Hidden {
			return
		}
		value, usage := pflag.UnquoteUsage(f)
		line := ".It "
		if f.Shorthand != "" {
			line += "Fl " + f.Shorthand + " , "
		}
		line += `Fl \-` + strings.ReplaceAll(f.Name, "-", `\-`)
		if value != "" {
			line += " Ar " + escaped(value)
		}
		p.WriteString(line + "\n")
		if f.DefValue != "" && f.DefValue != "false" && f.DefValue != "[]" && f.DefValue != "0" {
			usage += " (" + f.DefValue + " if left out)"
		}
		p.sentences(usage + ".")
	})
	p.WriteString(".El\n")
}

// seeAlso names the pages beside, in the order that mdoc wants: by section, then by name.
func (p *page) seeAlso(c *cobra.Command) {
	var names []string
	if c.HasParent() {
		names = append(names, title(c.Parent()))
	}
	for _, sub := range c.Commands() {
		if sub.IsAvailableCommand() && sub.Name() != "help" {
			names = append(names, title(sub))
		}
	}
	slices.Sort(names)
	p.WriteString(".Sh SEE ALSO\n")
	for _, name := range names {
		p.reference(name, 1)
	}
	p.reference("stilltide.yaml", 5)
}

// reference names another page. It is no Xr: that is for manuals that are installed beside it, and
// these may be anywhere.
func (p *page) reference(name string, section int) { fmt.Fprintf(p, ".Sy %s Ns (%d)\n", name, section) }

// escaped keeps roff from reading a text as anything else: a backslash, a dot or a quote at the
// beginning of a line.
func escaped(s string) string {
	s = strings.ReplaceAll(s, `\`, `\e`)
	s = strings.ReplaceAll(s, "…", "...")
	if strings.HasPrefix(s, ".") || strings.HasPrefix(s, "'") {
		s = `\&` + s
	}
	return s
}

func lowerFirst(s string) string {
	if len(s) > 1 && s[1] >= 'A' && s[1] <= 'Z' {
		return s // a word such as JSON
	}
	return strings.ToLower(s[:1]) + s[1:]
}
