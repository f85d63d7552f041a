package job

// Kind says what a placement did.
type Kind string

const (
	Moved     Kind = "moved"     // Source went to Target; also a rename
	Duplicate Kind = "duplicate" // Source went, because its content was at Target already
	Put       Kind = "put"       // a new file, or new content, came to Target
	Linked    Kind = "linked"    // a symbolic link that leads to Source came to Target
	Trashed   Kind = "trashed"   // Source went to Target in the trash
	Deleted   Kind = "deleted"   // Source went for good
	Tagged    Kind = "tagged"    // Target got tags; Kept is what it had before
)

// Adds reports whether a placement of this kind left its source where it was.
func (k Kind) Adds() bool { return k == Put || k == Linked }
