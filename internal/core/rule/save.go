package rule

// Save says which words a step leaves to later ones: one for all that it printed, or some for
// fields of the JSON text that this is.
type Save struct {
	Words []Text
	// Fields has the field of each word, as names and numbers joined by dots (data.items.0.id);
	// nil if the one word is for all.
	Fields []string
}

// Set reports whether anything is saved.
func (v *Save) Set() bool { return len(v.Words) > 0 }
