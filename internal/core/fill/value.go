package fill

import (
	"encoding/json"
	"fmt"
	"strconv"
	"strings"
	"time"
	"unicode"

	"github.com/ncruces/go-strftime"
)

func parseFilter(text string) (Filter, error) {
	name, arg, hasArg := strings.Cut(text, ":")
	switch name {
	case "lower", "upper", "title", "slug", "json", "folders":
		if hasArg {
			return Filter{}, fmt.Errorf("the filter %s takes no value", name)
		}
		return Filter{Name: name}, nil
	case "pad":
		n, err := strconv.Atoi(arg)
		if err != nil || n < 1 || n > 64 {
			return Filter{}, fmt.Errorf("the filter pad needs a width from 1 to 64, as in pad:4")
		}
		return Filter{Name: name, Arg: n}, nil
	}
	return Filter{}, fmt.Errorf("there is no filter named %q", name)
}

func (r *Ref) render(v Value) (string, error) {
	s := v.Text
	switch {
	case r.Format != "":
		at := v.Time
		if at.IsZero() {
			var ok bool
			if at, ok = ParseDate(v.Text); !ok {
				return "", fmt.Errorf("%s is %q for this file, which is not a date", r.Raw, v.Text)
			}
		}
		s = strftime.Format(r.Format, at)
	case v.List != nil:
		s = strings.Join(v.List, " ")
	case s == "" && !v.Time.IsZero():
		s = v.Time.Format(time.RFC3339)
	}
	for _, f := range r.Filters {
		s = f.apply(s)
	}
	return s, nil
}

func (f Filter) apply(s string) string {
	switch f.Name {
	case "lower":
		return strings.ToLower(s)
	case "upper":
		return strings.ToUpper(s)
	case "title":
		return title(s)
	case "slug":
		return slug(s)
	case "json":
		return inJSON(s)
	case "folders": // see keepInPlace: it matters in a path alone
		return s
	default: // pad
		if missing := f.Arg - len([]rune(s)); missing > 0 {
			return strings.Repeat("0", missing) + s
		}
		return s
	}
}

// title begins each word with a capital.
func title(s string) string {
	begins := true
	return strings.Map(func(r rune) rune {
		was := begins
		begins = !unicode.IsLetter(r) && !unicode.IsDigit(r) && r != '\''
		if was {
			return unicode.ToTitle(r)
		}
		return r
	}, s)
}

// inJSON escapes a text so that it can stand between the quotes of a JSON string (RFC 8259).
func inJSON(s string) string {
	var b strings.Builder
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	if e.Encode(s) != nil {
		return "" // a string can always be encoded
	}
	return strings.TrimSuffix(strings.TrimPrefix(strings.TrimSuffix(b.String(), "\n"), `"`), `"`)
}

// slug keeps letters and digits in lower case, with one dash between the runs.
func slug(s string) string {
	var out strings.Builder
	dash := false
	for _, r := range strings.ToLower(s) {
		if unicode.IsLetter(r) || unicode.IsDigit(r) {
			if dash && out.Len() > 0 {
				out.WriteByte('-')
			}
			out.WriteRune(r)
			dash = false
			continue
		}
		dash = true
	}
	return out.String()
}

var dateLayouts = []string{
	"2006-01-02", "20060102", "2006_01_02", "2006.01.02", "2006-01", "2006",
	time.RFC3339, "2006-01-02T15:04:05", "2006-01-02T15:04", "2006-01-02 15:04:05", "2006-01-02_15-04-05",
	"20060102T150405", "20060102T150405Z0700", "20060102150405", "20060102_150405", "20060102-150405",
}

// ParseDate reads the dates that stand in file names: ISO 8601 and its
// compact forms, with or without a time. Times without a zone are local.
func ParseDate(s string) (time.Time, bool) {
	for _, layout := range dateLayouts {
		if t, err := time.ParseInLocation(layout, s, time.Local); err == nil {
			return t, true
		}
	}
	return time.Time{}, false
}
