package take

import (
	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
)

// settingSource is what is asked about a file whose change has all handled again (again_on).
type settingSource interface {
	Known(rule, path string) (job.Known, bool, error)
	Look(path string) (file.Facts, error)
	Hash(path string, size int64) (string, error)
}

// Setting reads a file of a rule's again_on: as it is to be remembered, nil if it is remembered so; and whether all
// that the rule has handled is to be handled again for it. What counts is its content. The first time it is only
// remembered. One that goes is remembered without a hash, so that it counts as changed when it comes back.
func Setting(from settingSource, rule, path string) (now *job.Known, handle bool) {
	facts, err := from.Look(path)
	if err != nil {
		return nil, false // the next look says it
	}
	name := job.SettingsOf(rule)
	was, known, err := from.Known(name, path)
	there := known && was.Hash != ""
	switch {
	case err != nil, !facts.Exists && !there,
		there && facts.Exists && was.Facts.Size == facts.Size && was.Facts.Mod == facts.Mod:
		return nil, false
	case !facts.Exists:
		return &job.Known{Rule: name, File: path}, true
	}
	hash, err := from.Hash(path, facts.Size)
	if err != nil {
		return nil, false
	}
	return &job.Known{Rule: name, File: path, Facts: facts, Hash: hash}, known && was.Hash != hash
}

// Mass is from how many files on it is a mass that goes, or whose results are lost: then a person decides.
const Mass = 20

// TooMany reports whether of so many results of a rule too many are lost: something happened to their folder.
func TooMany(lost, all int) bool { return lost > Mass && 2*lost > all }

// HandledAmong lists those of a rule's known files that it has handled: it may have left some alone.
func HandledAmong(from rememberer, rule string, known []string) ([]string, error) {
	var list []string
	for _, path := range known {
		k, is, err := from.Known(rule, path)
		if err != nil {
			return list, err
		}
		if is && k.Job != 0 {
			list = append(list, path)
		}
	}
	return list, nil
}
