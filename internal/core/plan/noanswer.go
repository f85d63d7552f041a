package plan

// NoAnswer says that a file system does not answer.
type NoAnswer struct{ Point string }

func (e NoAnswer) Error() string { return Display(e.Point) + " does not answer" }

// NoSecondName says that a file cannot have a second name (a hard link) in a folder.
type NoSecondName struct{ File, Folder string }

func (e NoSecondName) Error() string {
	return e.File + " cannot have a second name in " + e.Folder + ": it lies on another file system"
}
