package rule

import "fmt"

// Pos is a place in a rules file. Lines and columns count from 1; a column is a character.
type Pos struct {
	File   string
	Line   int
	Column int
}

func (p Pos) String() string {
	if p.Line == 0 {
		return p.File
	}
	return fmt.Sprintf("%s:%d:%d", p.File, p.Line, p.Column)
}
