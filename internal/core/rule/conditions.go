package rule

import (
	"time"

	"stilltide/internal/core/expr"
)

// Existing says what happens with files that were there before the rule
// first watched the folder.
type Existing Choice

const (
	ExistingTake  Existing = "take"
	ExistingLeave Existing = "leave"
)

// SizeRange is a range of bytes: `100MB..`, `..2KiB`, `1KB..2KB`.
type SizeRange struct {
	Text     string
	Low, Top int64
}

// Set reports whether the range was written.
func (v SizeRange) Set() bool { return v.Text != "" }

// Holds reports whether a size lies in the range, its ends included.
func (v SizeRange) Holds(size int64) bool { return v.Low <= size && size <= v.Top }

// AgeRange is a range of time spans: `1h..30d`, `10m..`, `..1d`.
type AgeRange struct {
	Text     string
	Low, Top time.Duration
}

// Set reports whether the range was written.
func (v AgeRange) Set() bool { return v.Text != "" }

// Holds reports whether an age lies in the range, its ends included.
func (v AgeRange) Holds(age time.Duration) bool { return v.Low <= age && age <= v.Top }

// Let is one more word of a rule: an expression.
type Let struct {
	Word    string
	Text    Text
	Program *expr.Program
}

// Example is a file that `check` tries the rules on.
type Example struct {
	File      Text      `key:"file" doc:"path below the rule's first watched folder"`
	Size      Size      `key:"size" doc:"its size; 0 if left out"`
	Modified  Text      `key:"modified" doc:"when it was changed; now if left out"`
	Age       Duration  `key:"age" doc:"or how long ago that was"`
	MediaType Text      `key:"media_type" doc:"its media type; by its name if left out"`
	Event     Event     `key:"event" doc:"what happened to it"`
	Taken     *bool     `key:"taken" doc:"whether this rule takes it"`
	FileAfter Text      `key:"file_after" doc:"where it ends after success, relative to the rules file"`
	At        time.Time // Modified or Age, as a time; zero for now
	Pos       Pos
}

func (e *Example) SetPos(p Pos) { e.Pos = p }

// Where is the expression of `where`.
type Where struct {
	Text
	Program *expr.Program
}
