package console

import (
	"fmt"
	"path/filepath"
	"strconv"
	"time"

	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
)

// JobName is the file's name, and how many others there are.
func JobName(j job.Job) string {
	name := Display(filepath.Base(j.File))
	if n := len(j.Files()); n > 1 {
		name += fmt.Sprintf(" and %s more", plan.Number(n-1))
	}
	return name
}

// WhereNow returns the folder where a job's input is now, relative to the rules.
func WhereNow(f *rule.File, j job.Job) string {
	if j.FileNow == "" {
		return "-"
	}
	return Display(Short(f.Base, filepath.Dir(j.FileNow)))
}

// JobNumbers reads the numbers of jobs.
func JobNumbers(args []string) (ids []int64, err error) {
	for _, arg := range args {
		id, err := JobNumber(arg)
		if err != nil {
			return nil, err
		}
		ids = append(ids, id)
	}
	return ids, nil
}

// JobNumber reads the number of a job.
func JobNumber(arg string) (int64, error) {
	id, err := strconv.ParseInt(arg, 10, 64)
	if err != nil || id < 1 {
		return 0, Usage("%q is not a job's number; stilltide jobs lists them", arg)
	}
	return id, nil
}

// EndOf is when a job ended, or when it was taken if it is not over.
func EndOf(j job.Job) time.Time {
	if j.Ended.IsZero() {
		return j.Taken
	}
	return j.Ended
}
