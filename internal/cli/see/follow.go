package see

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"time"

	"stilltide/internal/cli/console"
	"stilltide/internal/core/job"
	"stilltide/internal/core/rule"
)

// lookEvery is how often a job that is followed is looked at.
const lookEvery = 200 * time.Millisecond

// followLog prints what a job's commands print, attempt after attempt, until
// the job is over or the user ends it.
func (a *app) followLog(arg string) error {
	f, l, j, err := a.oneJob(arg)
	if err != nil {
		return err
	}
	defer l.Close()
	ctx, stop := a.UntilSignal()
	defer stop()
	shown := map[int]int64{} // bytes, by attempt
	for {
		list, err := l.Jobs(job.Filter{ID: j.ID})
		if err != nil {
			return err
		}
		if len(list) > 0 {
			j = list[0]
		}
		for n := j.Earlier + 1; n <= j.Attempts; n++ {
			if err := a.printMore(f, j, n, shown); err != nil {
				return err
			}
		}
		if j.State.Final() {
			fmt.Fprintf(a.Err, "%s\n", a.StyleErr.Dim(fmt.Sprintf("--- job %d is over: %s", j.ID, j.State)))
			return nil
		}
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(lookEvery):
		}
	}
}

// PrintMore prints what an attempt has printed since the last look.
// shown counts the bytes that were printed, by attempt.
func PrintMore(a *console.App, f *rule.File, j job.Job, n int, shown map[int]int64) error {
	return (&app{a}).printMore(f, j, n, shown)
}

func (a *app) printMore(f *rule.File, j job.Job, n int, shown map[int]int64) error {
	out, err := os.Open(filepath.Join(f.StateFolder(), job.OutputName(j.ID, n)))
	if err != nil {
		return nil // it has printed nothing yet, or nothing is kept
	}
	defer out.Close()
	info, err := out.Stat()
	if err != nil {
		return err
	}
	if _, begun := shown[n]; !begun && j.Attempts > 1 {
		fmt.Fprintf(a.Err, "%s\n", a.StyleErr.Dim(fmt.Sprintf("--- attempt %d", n)))
	}
	from := shown[n]
	if info.Size() < from { // it was cut to its end meanwhile
		from = 0
	}
	text, err := io.ReadAll(io.NewSectionReader(out, from, info.Size()-from)) // it is bounded
	if err != nil {
		return err
	}
	shown[n] = from + int64(len(text))
	_, err = a.printed().Write(masked(f, text))
	return err
}
