// Package schedule knows when a cron line is due.
//
// A line has the five fields of cron (POSIX crontab: minute, hour, day of the
// month, month, day of the week, with names and steps), optionally followed by a
// time zone. It follows the wall clock: a time that occurs twice, when clocks go
// back, counts the first time; a time that is skipped, when they go forward,
// counts at the moment after the gap.
package schedule

import (
	"fmt"
	"strings"
	"time"
	_ "time/tzdata" // the program knows the zones on a machine that has none of them

	"github.com/robfig/cron/v3"
)

// Line is one cron line.
type Line struct {
	text string
	cron cron.Schedule
	zone *time.Location
}

// Zones finds a time zone by its name, such as Europe/Berlin; "Local" is that of the machine.
type Zones func(name string) (*time.Location, error)

// onlyUTC are the zones where no others are given.
func onlyUTC(name string) (*time.Location, error) {
	if name == "UTC" || name == "Local" {
		return time.UTC, nil
	}
	return nil, fmt.Errorf("there is no time zone %s", name)
}

// Parse reads a line. Without a zone it is in local time; nil are zones of which only UTC is known.
func Parse(text string, zones Zones) (*Line, error) {
	if zones == nil {
		zones = onlyUTC
	}
	fields := strings.Fields(text)
	name := "Local"
	if len(fields) == 6 {
		name, fields = fields[5], fields[:5]
	}
	zone, err := zones(name)
	if err != nil {
		return nil, fmt.Errorf("there is no time zone %s", name)
	}
	if len(fields) != 5 {
		return nil, fmt.Errorf("a line has five fields: minute, hour, day, month, day of the week, and perhaps a "+
			"time zone; this one has %d", len(fields))
	}
	parser := cron.NewParser(cron.Minute | cron.Hour | cron.Dom | cron.Month | cron.Dow)
	parsed, err := parser.Parse(strings.Join(fields, " "))
	if err != nil {
		return nil, fmt.Errorf("%s", strings.TrimPrefix(err.Error(), "failed to parse "))
	}
	l := &Line{text: text, cron: parsed, zone: zone}
	if l.Next(time.Date(2000, 1, 1, 0, 0, 0, 0, zone)).IsZero() {
		return nil, fmt.Errorf("it is never due")
	}
	return l, nil
}

// String returns the line as it was written.
func (l *Line) String() string { return l.text }

// Next returns the first time after t at which the line is due; zero if there
// is none within five years.
func (l *Line) Next(t time.Time) time.Time {
	wall := wallOf(t.In(l.zone))
	if start, _ := t.In(l.zone).ZoneBounds(); t.Sub(start) < 24*time.Hour {
		wall = wall.Add(-3 * time.Hour) // clocks were changed: times before now on the wall may still count
	}
	for {
		if wall = l.cron.Next(wall); wall.IsZero() {
			return time.Time{}
		}
		if at := l.instant(wall); at.After(t) {
			return at.In(l.zone)
		}
	}
}

// wallOf returns what the wall clock shows, as if it were UTC.
func wallOf(t time.Time) time.Time {
	return time.Date(t.Year(), t.Month(), t.Day(), t.Hour(), t.Minute(), t.Second(), t.Nanosecond(), time.UTC)
}

// instant returns the first moment at which the wall shows a time or, if it
// skips it, a later one.
func (l *Line) instant(wall time.Time) time.Time {
	// No zone is more than 15 hours from UTC, and no change moves more than a day.
	low, high := wall.Add(-39*time.Hour), wall.Add(39*time.Hour)
	var first time.Time
	for _, offset := range l.offsets(low, high) {
		at := wall.Add(-offset)
		if wallOf(at.In(l.zone)).Equal(wall) && (first.IsZero() || at.Before(first)) {
			first = at
		}
	}
	if !first.IsZero() {
		return first
	}
	return l.afterGap(wall)
}

// offsets lists the distances from UTC that hold between two moments.
func (l *Line) offsets(low, high time.Time) []time.Duration {
	var list []time.Duration
	for at := low; at.Before(high); {
		_, seconds := at.In(l.zone).Zone()
		list = append(list, time.Duration(seconds)*time.Second)
		_, end := at.In(l.zone).ZoneBounds()
		if end.IsZero() {
			break
		}
		at = end
	}
	return list
}

// afterGap returns the moment at which the wall jumps over a time.
func (l *Line) afterGap(wall time.Time) time.Time {
	for at := wall.Add(-39 * time.Hour); ; {
		_, end := at.In(l.zone).ZoneBounds()
		if end.IsZero() || wallOf(end.In(l.zone)).After(wall) {
			return end
		}
		at = end
	}
}
