package quick

import (
	"fmt"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"

	"stilltide/internal/core/diag"
	"stilltide/internal/core/fill"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
)

// Command is a command line with placeholders. Braces that hold no
// placeholder stay as they are: the words come from a shell, not from a file.
type Command struct {
	words [][]piece
}

// piece is literal text, or one placeholder.
type piece struct {
	text string
	fill *fill.Template
}

var reference = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`\{\{[a-z_]+\}\}|\{[a-z_]+(:[^{}|]*)?(\|[a-z]+(:\d+)?)*\}`)
})

// ofOne are the placeholders of a single file, as in rules.
var ofOne = []string{"file", "name", "stem", "ext", "folder", "rel", "rel_folder"}

// ParseCommand reads the words of a command line.
func ParseCommand(words []string, each bool) (*Command, error) {
	c := &Command{}
	for _, w := range words {
		pieces, err := parseWord(w, each)
		if err != nil {
			return nil, err
		}
		c.words = append(c.words, pieces)
	}
	return c, nil
}

func parseWord(word string, each bool) (pieces []piece, err error) {
	last := 0
	for _, at := range reference().FindAllStringIndex(word, -1) {
		raw := word[at[0]:at[1]]
		if strings.HasPrefix(raw, "{{") { // braces that are meant as themselves
			pieces = append(pieces, piece{text: word[last:at[0]] + raw[1:len(raw)-1]})
			last = at[1]
			continue
		}
		t, err := fill.Parse(raw)
		if err != nil {
			return nil, err
		}
		name := t.Refs()[0].Word
		if !slices.Contains(ofOne, name) && name != "files" {
			return nil, unknown(raw, name)
		}
		if name != "files" && !each {
			return nil, fmt.Errorf("%s is for --each, where each file has a run of its own; {files} stands for "+
				"all that changed", raw)
		}
		if name == "files" && raw != word {
			return nil, fmt.Errorf("{files} must be a word of its own: it becomes one for each file")
		}
		pieces = append(pieces, piece{text: word[last:at[0]]}, piece{fill: t})
		last = at[1]
	}
	return append(pieces, piece{text: word[last:]}), nil
}

// unknown says what a placeholder that there is not could be.
func unknown(raw, name string) error {
	words := append(slices.Clone(ofOne), "files")
	hint := "the words are {" + strings.Join(words, "} {") + "}."
	if near := diag.Nearest(name, words); near != "" {
		hint = "did you mean {" + near + "}?"
	}
	return fmt.Errorf("there is no placeholder %s here; %s For braces that are meant as themselves write {%s}", raw,
		hint,
		raw)
}

// Program is the first word, "" if it is filled for each run.
func (c *Command) Program() string {
	if len(c.words[0]) != 1 {
		return ""
	}
	return c.words[0][0].text
}

// Words fills the command for the files of one run.
func (c *Command) Words(files []string, folder string) []string {
	job := plan.Job{Rule: &rule.Rule{Name: rule.Text{S: "quick"}}, Watch: folder, Files: files}
	if len(files) > 0 {
		job.File = files[0]
	}
	var out []string
	for _, w := range c.words {
		if len(w) == 3 && w[1].fill != nil && w[1].fill.Refs()[0].Word == "files" {
			out = append(out, files...)
			continue
		}
		var text strings.Builder
		for _, p := range w {
			text.WriteString(p.text)
			if p.fill != nil {
				if s, err := p.fill.Fill(job.Lookup); err == nil { // these words always have a value
					text.WriteString(s)
				}
			}
		}
		out = append(out, text.String())
	}
	return out
}

// Env gives the command the first file, and its name, in the environment.
func (c *Command) Env(files []string) []string {
	if len(files) == 0 {
		return nil
	}
	return []string{"TIDE_FILE=" + files[0], "TIDE_NAME=" + filepath.Base(files[0])}
}
