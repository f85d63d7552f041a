package rule

import (
	"fmt"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"stilltide/internal/core/fill"
)

// Text is a text with its place, so that later checks can point at it.
type Text struct {
	S   string
	Pos Pos
}

// Set reports whether the key was written.
func (t Text) Set() bool { return t.Pos.Line > 0 }

// Path is a path or the template of one. Relative paths start at the folder
// of the file they are written in.
type Path struct {
	Text
	Base string
}

// Absolute returns the path with its base. Templates stay templates.
func (p Path) Absolute() string {
	if filepath.IsAbs(p.S) {
		return filepath.Clean(p.S)
	}
	return filepath.Join(p.Base, p.S)
}

// Duration is a time span: `500ms`, `2s`, `1h30m`, `90d`, `2w`.
type Duration struct {
	time.Duration
	Pos Pos
}

var units = map[string]time.Duration{
	"ms": time.Millisecond, "s": time.Second, "m": time.Minute, "h": time.Hour, "d": 24 * time.Hour,
	"w": 7 * 24 * time.Hour,
}

// ParseDuration reads a time span. A day has 24 hours.
func ParseDuration(s string) (time.Duration, error) {
	if s == "0" {
		return 0, nil
	}
	bad := fmt.Errorf("%q is not a time", s)
	var total float64
	rest := s
	for rest != "" {
		end := strings.IndexFunc(rest, func(r rune) bool { return r != '.' && (r < '0' || r > '9') })
		if end <= 0 {
			return 0, bad
		}
		n, err := strconv.ParseFloat(rest[:end], 64)
		if err != nil {
			return 0, bad
		}
		rest = rest[end:]
		next := strings.IndexFunc(rest, func(r rune) bool { return r >= '0' && r <= '9' })
		if next < 0 {
			next = len(rest)
		}
		unit, ok := units[rest[:next]]
		if !ok {
			return 0, bad
		}
		total += n * float64(unit)
		rest = rest[next:]
	}
	if s == "" || total > float64(100*365*24*time.Hour) {
		return 0, bad
	}
	return time.Duration(total), nil
}

// Place is a destination: a folder, and perhaps another name in it. The
// folder may hold placeholders; the name may not hold a slash.
type Place struct {
	To Path
	As Text

	Folder *fill.Template
	Name   *fill.Template
	Fixed  string // the whole folder, absolute and clean, if it holds no placeholder
}

// Retry is what happens after a failed attempt.
type Retry struct {
	Times      int      `key:"times" doc:"how many more attempts after the first"`
	Delay      Duration `key:"delay" doc:"the wait before the second attempt"`
	Factor     Number   `key:"factor" doc:"each wait is this many times the one before; from 1 on, where 1 is the same wait each time"`
	MaxDelay   Duration `key:"max_delay" doc:"no wait is longer; where it is left out, a longer delay counts"`
	Jitter     Number   `key:"jitter" doc:"part of each wait that is left to chance, so that jobs do not come back all at once; 0 to 0.3"`
	NeverExit  []int    `key:"never_on_exit" doc:"exit codes that are not worth another attempt"`
	NeverHTTP  []int    `key:"never_on_status" doc:"HTTP statuses, answered to post, that are not worth another attempt"`
	AfterCrash bool     `key:"after_crash" doc:"whether an attempt that a crash cut short is repeated"`
}

// Longest is the longest wait.
func (r Retry) Longest() time.Duration {
	if r.MaxDelay.Pos.Line == 0 {
		return max(r.MaxDelay.Duration, r.Delay.Duration)
	}
	return r.MaxDelay.Duration
}

// DefaultRetry is used where a rule says nothing.
func DefaultRetry() Retry {
	return Retry{
		Times: 2, Delay: Duration{Duration: 2 * time.Second}, Factor: 2,
		MaxDelay: Duration{Duration: 10 * time.Minute}, Jitter: 0.1, AfterCrash: true,
	}
}

// Number is a decimal number.
type Number float64
