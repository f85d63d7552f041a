package recipes

import (
	"fmt"
	"regexp"
	"strings"
	"sync"

	"github.com/goccy/go-yaml"
)

// Join makes one rules file of several recipes. The rules stand in it as the recipes have
// them, each recipe below what it does; what its defaults say stands in its rules. An error
// says which two recipes say different things of the same word or channel.
func Join(list []Recipe) (string, error) {
	if len(list) == 1 {
		return list[0].File(), nil
	}
	var rules strings.Builder
	tops, said := yaml.MapSlice{}, map[string]string{}
	for _, r := range list {
		var file yaml.MapSlice
		if err := yaml.Unmarshal([]byte(r.Rules), &file); err != nil {
			return "", err
		}
		for _, item := range file {
			key := item.Key.(string)
			switch key {
			case "version", "defaults", "rules":
				continue
			case "more_rules":
				return "", fmt.Errorf("the recipe %s is made of several files; begin with it alone", r.Name)
			}
			if by, ok := said[key]; ok {
				return "",
					fmt.Errorf("the recipes %s and %s both have %s: of their own; begin with one of them, and add "+
						"the other by hand (stilltide recipes show NAME)", by, r.Name, key)
			}
			said[key] = r.Name
			tops = append(tops, item)
		}
		rules.WriteString("\n" + indented(r.comment()) + rulesOf(r))
	}
	top := "version: 1\n"
	if len(tops) > 0 {
		text, err := yaml.Marshal(tops)
		if err != nil {
			return "", err
		}
		top += string(text)
	}
	return top + "rules:\n" + strings.TrimPrefix(rules.String(), "\n"), nil
}

func indented(text string) string {
	return "  " + strings.ReplaceAll(strings.TrimSuffix(text, "\n"), "\n", "\n  ") + "\n"
}

// beginsRule is the first line of an entry of rules.
var beginsRule = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^  - (\{?)(\w+:)`) })

// rulesOf are the lines of a recipe's rules, with its defaults in each rule that does not
// say otherwise.
func rulesOf(r Recipe) string {
	m := regexp.MustCompile(`(?ms)^rules:\n(.*?)(\z|^\S)`).FindStringSubmatch(r.Rules)
	if m == nil {
		return ""
	}
	var defaults []string
	if d := regexp.MustCompile(`(?m)^defaults: \{(.*)\}$`).FindStringSubmatch(r.Rules); d != nil {
		defaults = strings.Split(d[1], ", ")
	}
	var out []string
	for _, rule := range splitRules(m[1]) {
		out = append(out, withDefaults(rule, defaults)...)
	}
	return strings.Join(out, "\n") + "\n"
}

// splitRules splits the lines of a list into those of each entry.
func splitRules(text string) (rules [][]string) {
	for line := range strings.SplitSeq(strings.TrimRight(text, "\n"), "\n") {
		if beginsRule().MatchString(line) || len(rules) == 0 {
			rules = append(rules, nil)
		}
		rules[len(rules)-1] = append(rules[len(rules)-1], line)
	}
	return rules
}

// withDefaults adds to a rule the defaults that it does not have itself.
func withDefaults(lines, defaults []string) []string {
	m := beginsRule().FindStringSubmatch(lines[0])
	whole := strings.Join(lines, "\n")
	var missing []string
	for _, d := range defaults {
		key, _, _ := strings.Cut(d, ":")
		if !regexp.MustCompile(`(?m)(^    |[{ ,-] ?)` + regexp.QuoteMeta(key) + `:`).MatchString(whole) {
			missing = append(missing, d)
		}
	}
	if m == nil || len(missing) == 0 {
		return lines
	}
	if m[1] == "{" {
		at := strings.LastIndex(lines[len(lines)-1], "}")
		last := lines[len(lines)-1]
		lines[len(lines)-1] = last[:at] + ", " + strings.Join(missing, ", ") + last[at:]
		return lines
	}
	added := make([]string, len(missing))
	for i, d := range missing {
		added[i] = "    " + d
	}
	return append(append([]string{lines[0]}, added...), lines[1:]...)
}
