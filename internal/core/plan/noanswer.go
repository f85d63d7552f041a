package plan

// NoAnswer says that a file system does not answer.
type NoAnswer struct{ Point string }

func (e NoAnswer) Error() string { return Display(e.Point) + " does not answer" }
