package engine

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"time"

	"stilltide/internal/core/file"
	"stilltide/internal/core/fill"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
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
// says where the input would end. Nothing is moved, nothing is recorded.
func (t Trial) Try(ctx context.Context) (ok bool, endsIn string, err error) {
	facts, err := watchfs.LookAny(t.File)
	if err != nil || !facts.Exists {
		return false, "", fmt.Errorf("%s is not there", t.File)
	}
	complete(t.Set, t.Rule, t.File, &facts)
	job := t.job(facts)
	if !t.InPlace {
		if err := t.copy(&job); err != nil {
			return false, "", err
		}
	}
	if ok, err = t.steps(ctx, &job); err != nil || !ok {
		return ok, "", err
	}
	job.File = t.File
	if t.Rule.Processed == nil {
		return true, t.File, nil
	}
	folder, name, err := job.Destination(t.Rule.Processed)
	return true, filepath.Join(folder, name), err
}

func (t Trial) job(facts file.Facts) plan.Job {
	job := plan.Job{Rule: t.Rule, File: t.File, Facts: facts, Event: file.Added, Attempt: 1, Now: time.Now(), Watch: filepath.Dir(t.File), Scratch: filepath.Join(t.Folder, "scratch")}
	candidates := t.Set.Candidates(t.File)
	if facts.Dir {
		candidates = t.Set.Folder(t.File)
	}
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
	return os.Chtimes(to, facts.Mod, facts.Mod)
}

func (t Trial) steps(ctx context.Context, job *plan.Job) (bool, error) {
	for _, sub := range []string{"scratch", "scripts"} {
		if err := os.MkdirAll(filepath.Join(t.Folder, sub), 0o700); err != nil {
			return false, err
		}
	}
	if t.Rule.Gather != nil {
		job.Files = []string{job.File}
		job.List, job.List0 = filepath.Join(job.Scratch, "list.txt"), filepath.Join(job.Scratch, "list0.txt")
		if err := writeLists(*job); err != nil {
			return false, err
		}
	}
	if t.Rule.Uses("hash") {
		sum, err := hashFile(t.File)
		if err != nil {
			return false, err
		}
		job.Hash = sum
	}
	r := runner.New()
	defer r.Close()
	for i := range t.Rule.Steps {
		s := &t.Rule.Steps[i]
		c, err := job.Command(s, t.Folder)
		if err == nil {
			err = writeScript(c.Script)
		}
		if err != nil {
			return false, err
		}
		fmt.Fprintf(t.Out, "$ %s\n", fill.Quote(c.Args))
		output := filepath.Join(t.Folder, fmt.Sprintf("output-%d", i+1))
		res := r.Run(ctx, runner.Spec{Args: c.Args, Dir: c.Dir, Env: c.Env, Output: output, Timeout: c.Timeout, Ledger: t.Folder, Attempt: 1})
		if text, err := os.ReadFile(output); err == nil {
			t.Out.Write(text)
		}
		if res.Err != nil {
			return false, res.Err
		}
		fmt.Fprintf(t.Out, "exit code %d after %s\n", res.Exit, plan.Span(res.Ran))
		if !s.Success(res.Exit) {
			return false, nil
		}
	}
	return true, nil
}
