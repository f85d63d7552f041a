package plan

import (
	"fmt"
	"strconv"
	"time"

	"stilltide/internal/core/fill"

	"github.com/dustin/go-humanize"
)

// Display makes a name safe to show: one that holds control characters or
// invalid UTF-8 is quoted as a shell would read it.
func Display(name string) string {
	for _, r := range name {
		if fill.Unsafe(r) || r == '\uFFFD' {
			return fill.QuoteWord(name)
		}
	}
	return name
}

// Span writes a time span in a few characters: 8 ms, 2.4 s, 3m12s, 5h2m, 3d4h.
func Span(d time.Duration) string {
	switch {
	case d < time.Second:
		return strconv.FormatInt(max(d.Milliseconds(), 0), 10) + " ms"
	case d < time.Minute:
		return fmt.Sprintf("%.1f s", d.Seconds())
	case d < time.Hour:
		return fmt.Sprintf("%dm%02ds", int(d.Minutes()), int(d.Seconds())%60)
	case d < 24*time.Hour:
		return fmt.Sprintf("%dh%02dm", int(d.Hours()), int(d.Minutes())%60)
	}
	return fmt.Sprintf("%dd%02dh", int(d.Hours())/24, int(d.Hours())%24)
}

// Plural counts things: 1 file, 1,204 files.
func Plural(n int, word string) string {
	if n == 1 {
		return "1 " + word
	}
	return Number(n) + " " + word + "s"
}

// Number writes a number as people read it: 12,000.
func Number(n int) string { return humanize.Comma(int64(n)) }

// Clock writes a time of today as a time, an older one as a date and a time, in the place
// of now's clock.
func Clock(t, now time.Time) string {
	if t.IsZero() {
		return ""
	}
	t = t.In(now.Location())
	if now.Sub(t) < 20*time.Hour && t.Sub(now) < 20*time.Hour {
		return t.Format("15:04:05")
	}
	return t.Format("2006-01-02 15:04")
}
