package verbs

import (
	"bytes"
	"encoding/json"
	"fmt"
	"strconv"
	"strings"
)

// fieldOf returns one field of a JSON text (RFC 8259): names of objects and places in lists,
// from 0, joined by dots. A text is given as it is, anything else as JSON.
func fieldOf(text []byte, field string) (string, error) {
	d := json.NewDecoder(bytes.NewReader(text))
	d.UseNumber() // a large number stays as it is written
	var at any
	if err := d.Decode(&at); err != nil {
		return "", fmt.Errorf("what was answered is no JSON text, so it has no field %s", field)
	}
	for name := range strings.SplitSeq(field, ".") {
		next, ok := inside(at, name)
		if !ok {
			return "", fmt.Errorf("what was answered has no field %s", field)
		}
		at = next
	}
	switch v := at.(type) {
	case string:
		return v, nil
	case nil:
		return "", nil
	}
	whole, err := json.Marshal(at)
	return string(whole), err
}

func inside(of any, name string) (any, bool) {
	switch v := of.(type) {
	case map[string]any:
		value, ok := v[name]
		return value, ok
	case []any:
		i, err := strconv.Atoi(name)
		if err != nil || i < 0 || i >= len(v) {
			return nil, false
		}
		return v[i], true
	}
	return nil, false
}
