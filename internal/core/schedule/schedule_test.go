package schedule

import (
	"fmt"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"stilltide/internal/machine"
)

// model is a slow, obvious reading of a line: every minute of the year is
// looked at on the wall. A minute that was on the wall before does not count;
// one that was skipped counts at the next that is there.
func model(t *testing.T, line string, begin time.Time, walls []time.Time) []time.Time {
	m := fieldsOf(t, line)
	var due []time.Time
	var seen [13][32][24][60]bool
	last := wallOf(begin.Add(-time.Minute))
	for i, wall := range walls {
		at := begin.Add(time.Duration(i) * time.Minute)
		fits := false
		if wall.Sub(last) > time.Minute && wall.Sub(last) < 23*time.Hour {
			for skipped := last.Add(time.Minute); skipped.Before(wall); skipped = skipped.Add(time.Minute) {
				fits = fits || m.fits(skipped)
			}
		}
		if was := &seen[wall.Month()][wall.Day()][wall.Hour()][wall.Minute()]; !*was {
			*was = true
			fits = fits || m.fits(wall)
		}
		if fits {
			due = append(due, at)
		}
		last = wall
	}
	return due
}

// wallsOf is what the wall says each minute of a year.
func wallsOf(begin time.Time) (walls []time.Time) {
	for at := begin; at.Year() == begin.Year(); at = at.Add(time.Minute) {
		walls = append(walls, wallOf(at))
	}
	return walls
}

// fields are the values that each field of a line allows.
type fields struct {
	minute, hour, day, month, weekday [60]bool
	anyDay, anyWeekday                bool
}

func fieldsOf(t *testing.T, line string) fields {
	f := strings.Fields(line)
	return fields{allowed(t, f[0], 0, 59), allowed(t, f[1], 0, 23), allowed(t, f[2], 1, 31),
		allowed(t, f[3], 1, 12), allowed(t, f[4], 0, 6), f[2] == "*", f[4] == "*"}
}

func (f fields) fits(wall time.Time) bool {
	if !f.minute[wall.Minute()] || !f.hour[wall.Hour()] || !f.month[int(wall.Month())] {
		return false
	}
	day, weekday := f.day[wall.Day()], f.weekday[int(wall.Weekday())]
	if !f.anyDay && !f.anyWeekday { // as crontab(5): either is enough
		return day || weekday
	}
	return day && weekday
}

var names = map[string]int{"sun": 0, "mon": 1, "tue": 2, "wed": 3, "thu": 4, "fri": 5, "sat": 6, "jan": 1, "mar": 3,
	"oct": 10}

func allowed(t *testing.T, field string, low, high int) (set [60]bool) {
	for _, part := range strings.Split(field, ",") {
		step := 1
		if span, by, ok := strings.Cut(part, "/"); ok {
			part, step = span, number(t, by)
		}
		from, to := low, high
		if part != "*" {
			a, b, ranged := strings.Cut(part, "-")
			from = number(t, a)
			if to = from; ranged {
				to = number(t, b)
			}
		}
		for v := from; v <= to; v += step {
			set[v] = true
		}
	}
	return set
}

func number(t *testing.T, s string) int {
	if n, ok := names[strings.ToLower(s)]; ok {
		return n
	}
	n, err := strconv.Atoi(s)
	require.NoError(t, err)
	return n
}

// A whole year, both changes of the clocks included, in zones north and south
// of the equator, one that changes by half an hour, and one that never does.
func TestAYear(t *testing.T) {
	places := []string{"Europe/Oslo", "Australia/Lord_Howe", "America/Santiago"}
	for _, place := range places[:machine.Worlds(len(places))] {
		zone, err := time.LoadLocation(place)
		require.NoError(t, err)
		begin := time.Date(2031, 1, 1, 0, 0, 0, 0, zone)
		walls := wallsOf(begin)
		for _, line := range []string{"30 2 * * *", "*/20 1-3 * * *", "0 20 * * fri", "15 0 1,15 * *", "0 0 * * *",
			"59 23 31 * *", "* 8-17 * * 1-5", "0 3 13 * fri", "10-20/5 2 * mar,oct sun"} {
			if strings.HasPrefix(line, "* ") && place != "Europe/Oslo" {
				continue // many times, the same code
			}
			l, err := Parse(line+" "+place, time.LoadLocation)
			require.NoError(t, err)
			want := model(t, line, begin, walls)
			at := begin.Add(-time.Second)
			for i, w := range want {
				at = l.Next(at)
				require.Equal(t, w.In(zone).Format(time.RFC3339), at.In(zone).Format(time.RFC3339),
					"%s in %s, number %d", line, place, i)
			}
			require.Equal(t, 2032, l.Next(at).In(zone).Year(), "%s in %s", line, place)
		}
	}
}

func TestMistakes(t *testing.T) {
	for line, says := range map[string]string{
		"* * * *":             "this one has 4",
		"* * * * * Moon/Base": "there is no time zone Moon/Base",
		"61 * * * *":          "above maximum",
		"@daily":              "five fields",
		"x * * * *":           "x",
		"0 0 31 2 *":          "never due",
	} {
		_, err := Parse(line, time.LoadLocation)
		require.ErrorContains(t, err, says, line)
	}
	l, err := Parse(" 0 20 * * FRI", nil)
	require.NoError(t, err)
	require.Equal(t, "Fri 20:00", l.Next(time.Date(2031, 4, 2, 1, 0, 0, 0, time.Local)).Format("Mon 15:04"))
	require.Equal(t, " 0 20 * * FRI", fmt.Sprint(l))
}
