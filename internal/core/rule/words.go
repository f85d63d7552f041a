package rule

import (
	"path/filepath"
	"strings"
)

// Vars are placeholders with a fixed text, for all rules of a file.
type Vars map[string]Text

// LocalName returns the file that may hold a machine's own variables, for a rules
// file: stilltide.local.yaml beside stilltide.yaml.
func LocalName(path string) string {
	return strings.TrimSuffix(path, filepath.Ext(path)) + ".local.yaml"
}
