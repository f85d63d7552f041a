package plan

import (
	"maps"
	"path"
	"path/filepath"
	"strconv"
	"strings"
)

// Carried is a file that goes along to another machine.
type Carried struct {
	Here  string // its path
	There string // its path below the root there, with slashes
}

// Elsewhere returns the job as a command on another machine has to see it: its files lie below
// root/in, as below the watched folder, and its scratch folder is root/scratch. Files below a
// shared folder are not carried: they have their path there.
func (j *Job) Elsewhere(root string, shared map[string]string) (there Job, carried []Carried) {
	there = *j
	there.lets, there.Saved = nil, maps.Clone(j.Saved)
	taken := map[string]bool{}
	place := func(here, rel string) string {
		for from, to := range shared {
			if rest, below := Below(here, from); below {
				return to + rest
			}
		}
		name := "in/" + filepath.ToSlash(rel)
		for n := 2; taken[name]; n++ {
			name = path.Join("in", strconv.Itoa(n), filepath.ToSlash(rel))
		}
		taken[name] = true
		carried = append(carried, Carried{here, name})
		return root + "/" + name
	}
	there.Watch, there.Scratch = root+"/in", root+"/scratch"
	if j.Files != nil {
		there.Files = make([]string, len(j.Files))
		for i, file := range j.Files {
			there.Files[i] = place(file, j.below(file))
		}
		there.List, there.List0 = root+"/list.txt", root+"/list0.txt"
		return there, carried
	}
	now := j.Path()
	rel := filepath.Join(filepath.Dir(j.rel()), filepath.Base(now)) // steps may have given it another name
	there.File, there.At = place(now, rel), ""
	if there.File != root+"/in/"+filepath.ToSlash(rel) { // shared: where its watched folder is there
		there.Watch = strings.TrimSuffix(there.File, "/"+filepath.ToSlash(rel))
	}
	return there, carried
}

// below is a file's path below the watched folder, or its name.
func (j *Job) below(file string) string {
	if rest, below := Below(file, j.Watch); below && rest != "" {
		return strings.TrimPrefix(rest, string(filepath.Separator))
	}
	return filepath.Base(file)
}
