package sift

import "stilltide/internal/watchfs"

// remembered is what rules remember, by folder.
type remembered interface {
	KnownFiles(rule, folder, after string) (files []string, next string, err error)
}

// Missing lists what a rule remembers below a folder and what is not there: none, if that cannot be
// read; the next sweep tries again.
func Missing(m remembered, rule, folder string) (missing []string) {
	for after := ""; ; {
		list, next, err := m.KnownFiles(rule, folder, after)
		if err != nil {
			return nil
		}
		for _, path := range list {
			if facts, err := watchfs.Stat(path); err == nil && !facts.Exists {
				missing = append(missing, path)
			}
		}
		if after = next; next == "" {
			return missing
		}
	}
}

// MissingBelow is Missing for several rules and folders, by rule.
func MissingBelow(m remembered, rules, folders []string) map[string][]string {
	missing := map[string][]string{}
	for _, rule := range rules {
		for _, folder := range folders {
			if paths := Missing(m, rule, folder); len(paths) > 0 {
				missing[rule] = append(missing[rule], paths...)
			}
		}
	}
	return missing
}
