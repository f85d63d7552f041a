package engine

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"stilltide/internal/core/due"
	"stilltide/internal/core/turn"
)

// A machine that slept, or whose clock was set, is noticed within a minute by what waits for a time of day;
// where nothing waits, nothing wakes the loop.
func TestTheClockIsReadWhileSomethingWaits(t *testing.T) {
	for rule, most := range map[string]time.Duration{
		`{name: nightly, watch: in, debounce: 0s, processed: out, schedule: "0 2 1 1 *"}`: due.Longest,
		`{name: old, watch: in, debounce: 0s, processed: out, age: 9h..}`:                 due.Longest,
		`{name: none, watch: in, match: "*.none", processed: out}`:                        1<<63 - 1,
	} {
		dir := t.TempDir()
		require.NoError(t, os.Mkdir(filepath.Join(dir, "in"), 0o777))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "in", "gauge.csv"), nil, 0o666))
		e, stop := run(t, dir, "rules: ["+rule+"]\n", func(turn.Outcome) {})
		require.Eventually(t, func() (is bool) {
			require.NoError(t, e.do(func() { is = e.until(time.Now(), time.Time{}) == most }))
			return is
		}, 20*time.Second, time.Millisecond, rule)
		stop()
	}
}
