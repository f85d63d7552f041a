package metrics

import (
	"bytes"
	"io"
	"slices"
	"strconv"
	"strings"
)

// The two forms in which a page may be asked for: OpenMetrics 1.0, and the text format that was
// before it (version 0.0.4), for those who do not ask for the other.
const (
	openMetrics = "application/openmetrics-text"
	openType    = openMetrics + "; version=1.0.0; charset=utf-8"
	plainType   = "text/plain; version=0.0.4; charset=utf-8"
)

// Kinds of metrics.
const (
	gauge     = "gauge"
	counter   = "counter"
	histogram = "histogram"
)

// page is what is answered, a metric after the other.
type page struct {
	text bytes.Buffer
	open bool // OpenMetrics
	name string
}

// metric begins the next metric, by the name of its series. That of a counter ends with _total,
// which OpenMetrics leaves out where it says what the metric is.
func (p *page) metric(name, kind, help string) {
	p.name = name
	family := name
	if p.open {
		family = strings.TrimSuffix(name, "_total")
	}
	p.text.WriteString("# HELP " + family + " " + escaped.Replace(help) + "\n# TYPE " + family + " " + kind + "\n")
}

// series adds a value of the metric; labels are names and values in turn.
func (p *page) series(value float64, labels ...string) { p.line(p.name, value, labels) }

func (p *page) line(name string, value float64, labels []string) {
	p.text.WriteString(name)
	for i := 0; i < len(labels); i += 2 {
		p.text.WriteByte("{,"[min(i, 1)])
		p.text.WriteString(labels[i] + `="` + escaped.Replace(strings.ToValidUTF8(labels[i+1], "\uFFFD")) + `"`)
	}
	if len(labels) > 0 {
		p.text.WriteByte('}')
	}
	p.text.WriteString(" " + strconv.FormatFloat(value, 'g', -1, 64) + "\n")
}

// escaped is a text as it stands between the quotes of a label, and in a help.
var escaped = strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`)

// spread adds how values are spread over the bounds.
func (p *page) spread(s *spread, labels ...string) {
	sum := uint64(0)
	for i, n := range s.counts {
		sum += n
		le := "+Inf"
		if i < len(spans) {
			le = strconv.FormatFloat(spans[i], 'f', -1, 64)
		}
		if p.open && i < len(spans) && !strings.Contains(le, ".") {
			le += ".0" // OpenMetrics writes a bound as a number with a point
		}
		p.line(p.name+"_bucket", float64(sum), slices.Concat(labels, []string{"le", le}))
	}
	p.line(p.name+"_sum", s.sum, labels)
	p.line(p.name+"_count", float64(sum), labels)
}

// end writes the page.
func (p *page) end(w io.Writer) error {
	if p.open {
		p.text.WriteString("# EOF\n")
	}
	_, err := p.text.WriteTo(w)
	return err
}

// spans are the bounds of a spread, in seconds: from a hundredth to three hours.
var spans = [...]float64{0.01, 0.03, 0.1, 0.3, 1, 3, 10, 30, 100, 300, 1000, 3000, 10000}

// spread counts values by the bounds that they do not exceed; the last are above all.
type spread struct {
	counts [len(spans) + 1]uint64
	sum    float64
}

func (s *spread) add(v float64) {
	i, _ := slices.BinarySearch(spans[:], v)
	s.counts[i]++
	s.sum += v
}
