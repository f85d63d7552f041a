package advice

import (
	"path"
	"slices"
	"strings"

	"stilltide/internal/core/fill"
	"stilltide/internal/core/rule"
)

// programText are programs that take the text of a program as one of their words, and the letter of
// the option that it stands behind.
var programText = map[string]string{
	"sh": "c", "dash": "c", "ash": "c", "bash": "c", "ksh": "c", "zsh": "c", "fish": "c", "su": "c",
	"python": "c", "python3": "c", "perl": "e", "ruby": "e", "node": "e", "php": "r", "lua": "e", "Rscript": "e",
}

// harmless are placeholders whose text no file can choose.
var harmless = []string{"size", "job", "attempt", "hash", "modified", "now", "shot", "rule", "watch", "scratch",
	"count"}

// inProgramText doubts a command that makes a file's name part of a program: what is in the name
// would be run.
func inProgramText(s *rule.Step, warn warning) {
	if s.Command == nil {
		return
	}
	words := s.Command.Words
	for i, w := range words {
		program := path.Base(w.String())
		var texts []*fill.Template
		if letter := programText[program]; letter != "" {
			texts = behindOption(words[i+1:], letter)
		} else if program == "ssh" && i == 0 {
			texts = behindHost(words[1:])
		}
		for _, text := range texts {
			if ref := chosenByFile(text); ref != nil {
				warn(s.Run.Pos, "program-text", ref.Raw+" stands inside what "+program+
					" is to run, so that a file named $(date) would run date",
					"use script:, where the file is $1, or hand it over as a word of its own")
				return
			}
		}
	}
}

// behindOption finds the word behind an option such as -c or -ec.
func behindOption(words []*fill.Template, letter string) []*fill.Template {
	for i, w := range words {
		option := w.String()
		if !strings.HasPrefix(option, "-") {
			return nil
		}
		if !strings.HasPrefix(option, "--") && strings.HasSuffix(option, letter) && i+1 < len(words) {
			return words[i+1 : i+2]
		}
	}
	return nil
}

// behindHost are the words of an ssh command that a shell on the other machine reads.
func behindHost(words []*fill.Template) []*fill.Template {
	const withValue = "-B-b-c-D-E-e-F-I-i-J-L-l-m-O-o-p-Q-R-S-W-w-"
	for i := 0; i < len(words); i++ {
		option := words[i].String()
		if !strings.HasPrefix(option, "-") {
			return words[i+1:]
		}
		if len(option) == 2 && strings.Contains(withValue, option+"-") {
			i++
		}
	}
	return nil
}

// chosenByFile is the first placeholder of a text that a file's name or content decides, nil if there is none.
func chosenByFile(text *fill.Template) *fill.Ref {
	for _, ref := range text.Refs() {
		if !slices.Contains(harmless, ref.Word) {
			return ref
		}
	}
	return nil
}
