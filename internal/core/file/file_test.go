package file

import (
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestTimesOfFiles(t *testing.T) {
	when := time.Date(2031, 4, 2, 5, 6, 7, 89, time.UTC)
	require.True(t, At(when).Time().Equal(when))
	require.Equal(t, At(when), Unix(when.Unix(), 89))
	require.Zero(t, At(time.Time{}))

	before := time.Date(1969, 12, 31, 23, 59, 59, 5, time.UTC)
	require.Equal(t, Time(5-int64(time.Second)), At(before))
	require.True(t, At(before).Time().Equal(before))
}

// A file system can give times that do not fit. They stay in their order with
// those that do, and the same one is the same each time.
func TestTimesFarAway(t *testing.T) {
	late, early := At(time.Date(2446, 5, 10, 0, 0, 0, 0, time.UTC)), At(time.Date(1500, 1, 1, 0, 0, 0, 0, time.UTC))
	require.Equal(t, Time(math.MaxInt64), late)
	require.Equal(t, Time(math.MinInt64), early)
	require.Equal(t, 2262, late.Time().UTC().Year())
	require.Greater(t, late, At(time.Date(2261, 1, 1, 0, 0, 0, 0, time.UTC)))
}
