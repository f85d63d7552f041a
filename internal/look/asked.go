package look

import (
	"errors"
	"io/fs"
	"os"
	"time"

	"stilltide/internal/core/plan"
)

// patient is how long somebody who asks for advice waits for a file system that may not
// answer.
const patient = 2 * time.Second

// Asked asks the machine about files, for commands that people wait for. What does not
// answer is waited for once. Use NewAsked.
type Asked struct{ answers *Answers }

// NewAsked reads the mount table.
func NewAsked() Asked { return Asked{NewAnswers()} }

// Stat is os.Stat, or a NoAnswer.
func (a Asked) Stat(path string) (fs.FileInfo, error) { return a.ask(path, os.Stat) }

// There reports whether something has a name, a link that leads nowhere included. Its
// error is a NoAnswer.
func (a Asked) There(path string) (bool, error) {
	_, err := a.ask(path, os.Lstat)
	if errors.As(err, new(plan.NoAnswer)) {
		return false, err
	}
	return err == nil, nil
}

func (a Asked) ask(path string, stat func(string) (fs.FileInfo, error)) (fs.FileInfo, error) {
	var got struct {
		info fs.FileInfo
		err  error
	}
	if a.answers.Any() {
		a.answers.Know(path)
	}
	if err := a.answers.Ask(path, patient, func() { got.info, got.err = stat(path) }); err != nil {
		return nil, err
	}
	return got.info, got.err
}
