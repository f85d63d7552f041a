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
