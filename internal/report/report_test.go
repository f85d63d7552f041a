package report

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"image/color"
	"image/png"
	"maps"
	"math"
	"math/rand/v2"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"stilltide/internal/core/history"
)

// aWeek is a week at the harbour office: tides of files, a bad Thursday.
func aWeek(jobs int) *history.Summary {
	to := time.Date(2031, 4, 7, 9, 30, 0, 0, time.UTC)
	s := history.New(to.Add(-7*24*time.Hour), to)
	r := rand.New(rand.NewPCG(7, 7))
	rules := []string{"gauge-readings", "charts", "slips", "bundles", "soundings"}
	for i := range jobs {
		ended := to.Add(-time.Duration(r.Float64() * float64(7*24*time.Hour)))
		ran := time.Duration(r.ExpFloat64() * float64(900*time.Millisecond))
		wait := time.Duration(r.ExpFloat64() * float64(300*time.Millisecond))
		j := history.Job{ID: int64(i + 1), Rule: rules[r.IntN(len(rules))], Outcome: "processed", Ended: ended,
			Ran: ran, Size: int64(r.IntN(1 << 20)),
			Started: ended.Add(-ran), Taken: ended.Add(-ran - wait),
			File: fmt.Sprintf("/srv/kelder/arrivals/gauge-NOR_%s.csv", ended.Format("2006-01-02"))}
		switch {
		case ended.Weekday() == time.Thursday && r.IntN(4) == 0:
			j.Outcome, j.Reason = "failed",
				fmt.Sprintf("exit code 3: line %d says -99.99 <script>alert(1)</script>", r.IntN(144))
		case r.IntN(12) == 0:
			j.Outcome = "skipped"
		case r.IntN(300) == 0:
			j.Outcome, j.Reason = "failed", "it took longer than 2m00s"
		}
		s.Add(j)
	}
	return s
}

func TestThePageNeedsNothingBesideItself(t *testing.T) {
	var page bytes.Buffer
	require.NoError(t, Write(&page, Data{Summary: aWeek(4000), Rules: "/srv/kelder/stilltide.yaml",
		Now: time.Date(2031, 4, 7, 9, 30, 0, 0, time.UTC), State: "A watcher runs, and no rule is in trouble.",
		Unmatched: []Unmatched{{"/srv/kelder/arrivals/<b>odd.bin", "no rule's pattern fits its name"}}}))
	text := page.String()
	require.NotRegexp(t, `(?i)<script|<link|<img|@import|url\(|\ssrc=`, text)
	require.NotRegexp(t, regexp.MustCompile(`https?://`), strings.NewReplacer("http://www.w3.org/2000/svg", "",
		"http://www.w3.org/1999/xlink", "").Replace(text))
	require.Contains(t, text, "&lt;b&gt;odd.bin", "a name is data")
	require.Contains(t, text, "line ")
	require.Contains(t, text, "it took longer than 2m00s")
	require.Equal(t, 8, strings.Count(text, "<svg"), "four plots, wide and narrow")
	for _, svg := range regexp.MustCompile(`(?s)<svg.*?</svg>`).FindAllString(text, -1) {
		require.NoError(t, xml.Unmarshal([]byte(svg), new(struct{ XMLName xml.Name })))
		require.NotContains(t, svg, "NaN")
		for _, m := range regexp.MustCompile(`(?:fill|stroke):([^;"]*)`).FindAllStringSubmatch(svg, -1) {
			name, is := strings.CutPrefix(strings.TrimSuffix(m[1], ")"), "var(--")
			require.True(t, m[1] == "none" || is && colours[role(name)] != colour{}, "%s is a colour of the page", m[1])
		}
		for _, m := range regexp.MustCompile(`(?:width|height|size)[=:]"?([^;">]*)`).FindAllStringSubmatch(svg, -1) {
			require.Regexp(t, `^\d+(\.\d+)?(px|pt|in)?$`, m[1], "a length")
		}
		require.Regexp(t, `>(jobs|waiting time|running time)</text>`, svg, "the axis says what it counts")
	}
	if keep := os.Getenv("STILLTIDE_KEEP_PAGE"); keep != "" {
		require.NoError(t, os.WriteFile(keep, page.Bytes(), 0o666))
	}
}

// board is a surface that notes what is drawn on it: outlines, and texts by their boxes.
type board struct {
	shapes [][]point
	texts  map[string][]point
}

func (b *board) fill(outline []point, _ role)          { b.shapes = append(b.shapes, outline) }
func (b *board) line(along []point, _ float64, _ role) { b.shapes = append(b.shapes, along) }

func (b *board) width(size float64, s string) float64 { return textWidth(size, s) }

func (b *board) text(at point, a align, size float64, s string) {
	long := textWidth(size, s)
	at.x -= map[align]float64{start: 0, middle: long / 2, end: long}[a]
	b.texts[s] = []point{{at.x, at.y - size*0.8}, {at.x + long, at.y}}
}

// All of a plot lies on its sheet, the legend above what is drawn, and no text on another.
func TestNothingOfAPlotCoversAnother(t *testing.T) {
	for _, narrow := range []bool{false, true} {
		for _, f := range figures(aWeek(4000)) {
			width := map[bool]float64{false: wide, true: slim}[narrow]
			c, b := f.chart(narrow), &board{texts: map[string][]point{}}
			c.draw(b, width, f.high)
			in := c.layOut(b, width, f.high)
			require.NotEmpty(t, c.legend, f.name)
			for _, shape := range append(slices.Collect(maps.Values(b.texts)), b.shapes...) {
				for _, p := range shape {
					require.True(t, p.x >= 0 && p.x <= width && p.y >= 0 && p.y <= f.high, "%s: %v", f.name, p)
				}
			}
			for _, e := range c.legend {
				require.Less(t, b.texts[e.name][1].y, in.top)
			}
			for one, at := range b.texts {
				for other, there := range b.texts {
					apart := at[1].x < there[0].x || there[1].x < at[0].x || at[1].y < there[0].y ||
						there[1].y < at[0].y
					require.True(t, one == other || apart, "%s: %q lies on %q", f.name, one, other)
				}
			}
			for _, r := range c.bars {
				require.Less(t, c.place(in, r.from).x, c.place(in, r.to).x)
				require.Greater(t, c.place(in, r.from).y, c.place(in, r.to).y)
			}
		}
	}
}

// The bars of a plot are as high as their jobs are many.
func TestBarsAreTheJobs(t *testing.T) {
	s := aWeek(4000)
	c := outcomes(s, false)
	total := map[role]int{}
	for _, b := range c.bars {
		total[b.role] += int(math.Round(b.to.y - b.from.y))
	}
	for outcome, n := range s.Total.Count {
		require.Equal(t, n, total[role(outcome)], outcome)
	}
}

func TestAnEmptyLedgerHasAPage(t *testing.T) {
	var page bytes.Buffer
	require.NoError(t, Write(&page, Data{Summary: aWeek(0)}))
	require.Contains(t, page.String(), "No job ended since 31 Mar 2031 09:30.")
	require.Contains(t, page.String(), "No job failed.")
}

func TestPictures(t *testing.T) {
	names, err := PNG(aWeek(500), t.TempDir())
	require.NoError(t, err)
	require.Len(t, names, 4)
	for _, name := range names {
		f, err := os.Open(name)
		require.NoError(t, err)
		picture, err := png.Decode(f)
		f.Close()
		require.NoError(t, err)
		require.Greater(t, picture.Bounds().Dx(), 1000)
		colours := map[color.Color]bool{}
		for x := range picture.Bounds().Dx() {
			colours[picture.At(x, picture.Bounds().Dy()/2)] = true
		}
		require.Greater(t, len(colours), 2, "%s is empty", name)
	}
}

func TestAxesAreRound(t *testing.T) {
	for _, c := range []struct {
		to   float64
		want string
	}{{0.02, "0 ms 5 ms 10 ms 15 ms 20 ms"}, {7, "0 s 2 s 4 s 6 s"}, {600, "0 min 2 min 4 min 6 min 8 min 10 min"},
		{20_000, "0 h 2 h 4 h"}} {
		var labels []string
		for _, tick := range spans(c.to) {
			labels = append(labels, tick.label)
		}
		require.Equal(t, c.want, strings.Join(labels, " "))
	}
	require.Equal(t, "5 minutes", every(5*time.Minute))
	require.Equal(t, "hour", every(time.Hour))
}
