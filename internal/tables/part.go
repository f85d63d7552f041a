package tables

import (
	"encoding/binary"
	"encoding/json"
	"errors"
)

// The journal makes many rows durable for the price of one. A part of it, a
// row of the table journal, holds the statements that it needs, as a JSON list of
// their texts by number, and the values: for each row that is to be written the
// number of its statement, how many values there are, and each value as its kind
// (0 nothing, 1 a whole number, 2 a text) and what it is: a zigzag varint, or a
// varint of the length and the bytes. (Varints as in Go's encoding/binary.) The
// rows go to their tables at leisure, and the part is then deleted; what a crash
// leaves is written when the ledger is opened next.

// EncodePart adds rows to what a part of the journal holds.
func EncodePart(rows []byte, list []Written) (statements string, _ []byte, err error) {
	used := map[Statement]string{}
	var c Columns
	for _, w := range list {
		s := w.Record.Statement
		if used[s] == "" {
			used[s] = SQL[s]
		}
		c = w.Record.Fill(c[:0])
		rows = append(rows, byte(s), byte(len(c)))
		for _, v := range c {
			rows = v.Encode(rows)
		}
	}
	text, err := json.Marshal(used)
	return string(text), rows, err
}

// Encode adds the value as the journal has it.
func (v column) Encode(to []byte) []byte {
	to = append(to, byte(v.kind))
	switch v.kind {
	case number:
		return binary.AppendVarint(to, v.Num)
	case text:
		return append(binary.AppendUvarint(to, uint64(len(v.Text))), v.Text...)
	}
	return to
}

// ErrPart says that a part of the journal is not what EncodePart has written.
var ErrPart = errors.New("a part of its journal is damaged")

// PartReader reads what part has written.
type PartReader struct{ Left []byte }

// Next reads the next row: its statement and values.
func (p *PartReader) Next() (s Statement, c Columns, err error) {
	if len(p.Left) < 2 {
		return 0, nil, ErrPart
	}
	s, n := Statement(p.Left[0]), int(p.Left[1])
	p.Left = p.Left[2:]
	for range n {
		v, err := p.column()
		if err != nil {
			return 0, nil, err
		}
		c = append(c, v)
	}
	return s, c, nil
}

func (p *PartReader) column() (v column, err error) {
	if len(p.Left) == 0 {
		return v, ErrPart
	}
	v.kind, p.Left = columnKind(p.Left[0]), p.Left[1:]
	switch v.kind {
	case nothing:
	case number:
		n, size := binary.Varint(p.Left)
		if size <= 0 {
			return v, ErrPart
		}
		v.Num, p.Left = n, p.Left[size:]
	case text:
		n, size := binary.Uvarint(p.Left)
		if size <= 0 || n > uint64(len(p.Left)-size) {
			return v, ErrPart
		}
		v.Text, p.Left = string(p.Left[size:size+int(n)]), p.Left[size+int(n):]
	default:
		return v, ErrPart
	}
	return v, nil
}
