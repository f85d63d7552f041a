// Package recipes has the ready-made rules. Their one source is docs/recipes.md: each heading
// is a recipe, below the need that it serves, with what it does, a whole rules file, and the
// script by which the tests try it.
package recipes

import (
	"regexp"
	"strings"

	"stilltide/docs"
)

// Recipe is a ready-made rules file.
type Recipe struct {
	Name  string // by which it is asked for
	Need  string // what it is about
	Title string
	Text  string // what it does, in sentences; "" if the title says it all
	Rules string // a whole rules file (YAML)
}

// All are the recipes, in the order of the page.
func All() (list []Recipe) {
	named := regexp.MustCompile("(?m)^`stilltide init --recipe ([a-z-]+)`$")
	fenced := regexp.MustCompile("(?s)\n```yaml\n(.*?)```\n")
	comment := regexp.MustCompile("(?s)<!--.*?-->")
	for _, need := range strings.Split(docs.Recipes, "\n## ")[1:] {
		about, rest, _ := strings.Cut(need, "\n")
		for _, part := range strings.Split(rest, "\n### ")[1:] {
			title, body, _ := strings.Cut(part, "\n")
			name, rules := named.FindStringSubmatch(body), fenced.FindStringSubmatch(body)
			if name == nil || rules == nil {
				continue // a hint, and no rules file
			}
			body, _, _ = strings.Cut(body, "\n```yaml")
			text := strings.TrimSpace(comment.ReplaceAllString(named.ReplaceAllString(body, ""), ""))
			list = append(list, Recipe{Name: name[1], Need: about, Title: title, Text: text, Rules: rules[1]})
		}
	}
	return list
}

// Named finds a recipe.
func Named(name string) (Recipe, bool) {
	for _, r := range All() {
		if r.Name == name {
			return r, true
		}
	}
	return Recipe{}, false
}

// Names are those of all recipes.
func Names() (names []string) {
	for _, r := range All() {
		names = append(names, r.Name)
	}
	return names
}

// File is the recipe as a rules file, with what it does in a comment above.
func (r Recipe) File() string { return r.comment() + "\n" + r.Rules }

// comment is what the recipe does, as a comment.
func (r Recipe) comment() string {
	var b strings.Builder
	b.WriteString("# " + r.Title + "\n")
	if r.Text != "" {
		b.WriteString("#\n")
	}
	for part := range strings.SplitSeq(r.Text, "\n\n") {
		line := ""
		for _, word := range strings.Fields(part) {
			if line != "" && len(line)+len(word) >= columns {
				b.WriteString("# " + line + "\n")
				line = ""
			}
			line = strings.TrimLeft(line+" "+word, " ")
		}
		if line != "" {
			b.WriteString("# " + line + "\n")
		}
	}
	return b.String()
}

// columns is how wide the comment above a recipe is.
const columns = 88
