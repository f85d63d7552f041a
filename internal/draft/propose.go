package draft

import (
	"path/filepath"
	"regexp"
	"slices"
	"strings"
)

// maxProposals bounds the patterns that are proposed.
const maxProposals = 6

// Propose lists patterns for the names that lie in a folder, those that take most first: by
// ending, and by what names have in common besides their numbers.
func Propose(names []string) []string {
	digits, runs := regexp.MustCompile(`[0-9]+`), regexp.MustCompile(`\*([-_.]?\*)+`)
	count := map[string]int{}
	for _, name := range names {
		if strings.HasPrefix(name, ".") {
			continue
		}
		shape := runs.ReplaceAllString(digits.ReplaceAllString(literal(name), "*"), "*")
		if shape != literal(name) && strings.Trim(shape, "*.-_ ") != "" {
			count[shape]++
		}
		if ext := filepath.Ext(name); ext != "" && ext != name {
			count["*"+literal(ext)]++
		}
	}
	var list []string
	for shape, n := range count {
		if n > 1 || strings.HasPrefix(shape, "*.") {
			list = append(list, shape)
		}
	}
	slices.SortFunc(list, func(a, b string) int {
		if count[a] != count[b] {
			return count[b] - count[a]
		}
		return strings.Compare(b, a) // the longer words before the endings
	})
	return list[:min(len(list), maxProposals)]
}

// literal writes a name as a pattern that takes that name alone.
func literal(name string) string {
	return strings.NewReplacer(`\`, `\\`, "*", `\*`, "?", `\?`, "[", `\[`, "{", `\{`, "<", `\<`).Replace(name)
}
