package plan

import (
	"regexp"
	"strings"
	"sync"
)

// telling is what Telling looks for, compiled when it is first asked.
type telling struct{ pointsElsewhere, namesAnError, says *regexp.Regexp }

var tellingOnce = sync.OnceValue(func() telling {
	return telling{
		pointsElsewhere: regexp.MustCompile(`(?i)^\s*(usage\b|try\b.*help|see\b.*(help|man\b)|run\b.*--help|type\b.*help|for more (information|help))|--help\b.*for more`),
		namesAnError:    regexp.MustCompile(`(?i)\b(error|fatal|failed|failure|cannot|can't|could not|couldn't|unable|invalid|illegal|unknown|unrecognized|unexpected|no such|not found|denied|refused|missing|corrupt|exception|panic|abort(ed)?)\b`),
		says:            regexp.MustCompile(`[\pL\pN]`),
	}
})

// Telling picks the line of what a failing program printed that says most of why: the
// first that names an error, before one that only points to the help. A stack trace ends
// with its cause. Without any such line it is the last.
func Telling(lines []string) string {
	look := tellingOnce()
	last, trace := "", false
	for _, line := range lines {
		switch text := strings.TrimSpace(line); {
		case !look.says.MatchString(text) || look.pointsElsewhere.MatchString(text):
		case strings.HasPrefix(text, "Traceback "):
			trace = true
		case !trace && look.namesAnError.MatchString(text):
			return text
		default:
			last = text
		}
	}
	if last == "" && len(lines) > 0 {
		return strings.TrimSpace(lines[len(lines)-1])
	}
	return last
}
