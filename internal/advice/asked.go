package advice

import (
	"io/fs"
	"os"
	"time"

	"stilltide/internal/look"
)

// patience is how long somebody who asks for advice waits for a file system that may not
// answer.
const patience = 2 * time.Second

// asked asks the machine about files. What does not answer is waited for once.
type asked struct{ answers *look.Answers }

func newAsked() asked { return asked{look.NewAnswers()} }

// stat is os.Stat, or a look.NoAnswer.
func (a asked) stat(path string) (fs.FileInfo, error) {
	var got struct {
		info fs.FileInfo
		err  error
	}
	if a.answers.Any() {
		a.answers.Know(path)
	}
	if err := a.answers.Ask(path, patience, func() { got.info, got.err = os.Stat(path) }); err != nil {
		return nil, err
	}
	return got.info, got.err
}
