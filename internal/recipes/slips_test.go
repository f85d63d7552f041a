package recipes

import (
	"fmt"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"stilltide/internal/core/diag"
	"stilltide/internal/core/notation"
)

var aKey = regexp.MustCompile(`(?m)(?:^[ -]*|[{,] *)([a-z_]{4,}): `)

// One letter that is left out of one key is one error: what follows from it is not told as well.
func TestOneSlipIsOneError(t *testing.T) {
	slips, told := 0, 0
	for _, r := range All() {
		text := r.File()
		for _, at := range aKey.FindAllStringSubmatchIndex(text, -1) {
			cut := (at[2] + at[3]) / 2
			slip := text[:cut] + text[cut+1:]
			_, list := notation.Parse("/rules/stilltide.yaml", []byte(slip))
			var errors []string
			unknown, unclear := false, false // the others are names of the user's own
			for _, d := range list {
				if d.Severity == diag.SeverityError {
					errors = append(errors, fmt.Sprintf("%v %s (%s)", d.Pos, d.Message, d.Hint))
					unknown = unknown || d.Code == "unknown-key"
					unclear = unclear || strings.Contains(d.Hint, " or ") // two keys are as near
				}
			}
			slips++
			if unknown {
				told++
			}
			if unknown && !unclear && len(errors) > 1 {
				t.Errorf("%s: %s without one letter: %q", r.Name, text[at[2]:at[3]], errors)
			}
		}
	}
	require.Greater(t, slips, 100)
	require.Greater(t, told, slips/2)
}
