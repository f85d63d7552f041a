package work

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"stilltide/internal/content"
	"stilltide/internal/core/file"
	"stilltide/internal/core/fill"
	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/core/take"
	"stilltide/internal/look"
	"stilltide/internal/place"
	"stilltide/internal/runner"
	"stilltide/internal/watchfs"
)

// Trial is one try of a rule on a file.
type Trial struct {
	Set     *plan.Set
	Rule    *rule.Rule
	File    string // the real one
	InPlace bool   // commands get the real file, not a copy
	Folder  string // throwaway folder
	Out     io.Writer
}

// Try runs the rule's steps on a copy of a file, prints what they print, and
// says where the input would end. What steps place goes below the throwaway
// folder under its full path; nothing is sent, discarded or recorded.
func (t Trial) Try(ctx context.Context) (ok bool, fileNow string, err error) {
	facts, err := watchfs.LookAny(t.File)
	if err != nil || !facts.Exists {
		return false, "", fmt.Errorf("%s is not there", t.File)
	}
	look.Complete(t.Set, t.Rule, t.File, &facts)
	job := t.job(facts)
	if !t.InPlace {
		if err := t.copy(&job); err != nil {
			return false, "", err
		}
	}
	at, ok, err := t.steps(ctx, job)
	if err != nil || !ok {
		return ok, "", err
	}
	if at == "" || t.Rule.Processed == nil {
		return true, t.outside(at), nil
	}
	job.File, job.Watch, job.At = t.File, t.outsideOf(job.Watch), t.outside(at)
	spot, err := job.Destination(t.Rule.Processed)
	return true, spot.Path(), err
}

// outside returns the real path that a path in the throwaway folder stands for.
func (t Trial) outside(at string) string {
	if at == filepath.Join(t.Folder, "copy", t.File) {
		return t.File
	}
	return t.outsideOf(strings.TrimPrefix(at, filepath.Join(t.Folder, "placed")))
}

func (t Trial) outsideOf(path string) string {
	return strings.TrimPrefix(path, filepath.Join(t.Folder, "copy"))
}

func (t Trial) job(facts file.Facts) plan.Job {
	job := plan.Job{Rule: t.Rule, File: t.File, Facts: facts, Event: file.Added, Attempt: 1, Now: time.Now(),
		Watch: filepath.Dir(t.File), Scratch: filepath.Join(t.Folder, "scratch")}
	candidates, _ := take.Candidates(t.Set, t.File, facts.Dir, nil) // without a memory to ask nothing can fail
	for _, c := range candidates {
		if c.Rule == t.Rule {
			job.Captures, job.Watch = c.Captures, c.Watch
		}
	}
	return job
}

// copy puts a copy below the throwaway folder, under the whole path.
func (t Trial) copy(job *plan.Job) error {
	target := filepath.Join(t.Folder, "copy", t.File)
	if err := os.MkdirAll(filepath.Dir(target), 0o700); err != nil {
		return err
	}
	if job.Facts.Dir {
		if err := os.CopyFS(target, os.DirFS(t.File)); err != nil {
			return err
		}
	} else if err := copyContent(t.File, target, job.Facts); err != nil {
		return err
	}
	job.File, job.Watch = target, filepath.Join(t.Folder, "copy", job.Watch)
	return nil
}

func copyContent(from, to string, facts file.Facts) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_WRONLY, os.FileMode(facts.Mode&0o777)|0o600)
	if err != nil {
		return err
	}
	if _, err := io.Copy(out, in); err != nil {
		out.Close()
		return err
	}
	if err := out.Close(); err != nil {
		return err
	}
	return os.Chtimes(to, facts.Mod.Time(), facts.Mod.Time())
}

// steps runs the steps and gives where the file is then, "" if nowhere.
func (t Trial) steps(ctx context.Context, j plan.Job) (at string, ok bool, err error) {
	for _, sub := range []string{"scratch", "scripts", "kept"} {
		if err := os.MkdirAll(filepath.Join(t.Folder, sub), 0o700); err != nil {
			return "", false, err
		}
	}
	if t.Rule.Gather != nil {
		j.Files = []string{j.File}
		j.ListIn(j.Scratch)
		if err := writeLists(j); err != nil {
			return "", false, err
		}
	}
	if t.Rule.Uses("hash") {
		if j.Hash, err = content.Hash("", t.File, -1); err != nil {
			return "", false, err
		}
	}
	if j.Facts, err = watchfs.LookAny(j.File); err != nil { // the copy has an inode of its own
		return "", false, err
	}
	look.Complete(t.Set, t.Rule, j.File, &j.Facts)
	r := runner.New()
	j.Exists = IsThere
	w := &Work{Job: j, Output: filepath.Join(t.Folder, "output"),
		Units: []job.Unit{{Taken: j.File, At: j.File, Facts: j.Facts, Captures: j.Captures}},
		Hands: Hands{Secrets: t.Set.File.SecretNames(), Placer: &place.Placer{}, Runner: r, State: t.Folder,
			Book: &trialHands{}, Trial: &trialHands{folder: t.Folder, out: t.Out}}}
	if p := w.All(ctx); p != nil {
		fmt.Fprintln(t.Out, p.Text)
		return "", false, nil
	}
	return w.Units[0].At, true, nil
}

// trialHands keep a trial's placements in its folder and record nothing.
type trialHands struct {
	folder string
	out    io.Writer
	shown  int64 // bytes of the output that were printed
	last   int64
}

func (t *trialHands) spot(s plan.Spot) plan.Spot {
	if strings.HasPrefix(s.Root, t.folder+string(filepath.Separator)) {
		return s // a rename of the copy itself
	}
	s.Root = filepath.Join(t.folder, "placed", s.Root)
	return s
}

// Begins prints a command.
func (t *trialHands) Begins(args []string) {
	if t != nil {
		fmt.Fprintf(t.out, "$ %s\n", fill.Quote(args))
	}
}

// Ran prints what a command printed, and how it ended.
func (t *trialHands) Ran(res runner.Result, output string) {
	if t == nil {
		return
	}
	if text, err := os.ReadFile(output); err == nil {
		t.out.Write(text[min(t.shown, int64(len(text))):])
		t.shown = int64(len(text))
	}
	if res.Err == nil {
		fmt.Fprintf(t.out, "exit code %d after %s\n", res.Exit, plan.Span(res.Ran))
	}
}

func (t *trialHands) Number() int64 { t.last++; return t.last }

func (t *trialHands) Intend([]*job.Placement) error { return nil }

func (t *trialHands) Did(*job.Placement) {}

func (t *trialHands) Stays(*job.Placement, []*job.Placement) error { return nil }

func (t *trialHands) Answers(string) error { return nil }

func (t *trialHands) There(string) error { return nil }

func (t *trialHands) MadeFrom(string, string) string { return "" }

func (t *trialHands) Ours(string, string, file.Facts) bool { return false }

func (t *trialHands) Notice(string, string, plan.Job) {}

func (t *trialHands) First(string) []job.Ahead { return nil }

func (t *trialHands) Held(string, bool) bool { return false }

func (t *trialHands) Lost(folder string, _ []string) string {
	return folder + " cannot hold all attributes"
}
