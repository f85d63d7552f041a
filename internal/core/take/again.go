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
// remembered. One that goes is remembered without a hash, so that it counts as changed when it comes back; and one for
// which not all is handled yet is remembered with begun as its job, so that a start goes on with it. under tells that
// this program is at that.
func Setting(from settingSource, rule, path string, under bool) (now *job.Known, handle bool) {
	facts, err := from.Look(path)
	if err != nil {
		return nil, false // the next look says it
	}
	name := job.SettingsOf(rule)
	was, known, err := from.Known(name, path)
	if err != nil {
		return nil, false
	}
	there, unfinished := known && was.Hash != "", known && was.Job == begun && !under
	same := facts.Exists == there && (!there || was.Facts.Size == facts.Size && was.Facts.Mod == facts.Mod)
	if same && !unfinished {
		return nil, false
	}
	now = &job.Known{Rule: name, File: path}
	if facts.Exists {
		now.Facts = facts
		if now.Hash, err = from.Hash(path, facts.Size); err != nil {
			return nil, false
		}
	}
	handle = known && (was.Hash != now.Hash || unfinished)
	if handle || known && was.Job == begun {
		now.Job = begun
	}
	return now, handle
}

// begun stands for the job of a setting for which not all is handled yet.
const begun = 1

// Finished is a setting for which all was handled.
func Finished(k job.Known) job.Known {
	k.Job = 0
	return k
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
