package pattern

import (
	"slices"
	"strings"
)

// List is the value of `match`: a name fits if any plain pattern fits and no
// pattern with a leading `!` does, in whatever order they stand. Only `!`
// patterns means `*` first.
type List struct {
	plain []*Pattern
	not   []*Pattern
	edges edges
}

// edges are the bytes with which names that a plain pattern fits can begin or
// end: most names fit none of a long list, and are known by that.
type edges struct {
	any         bool // some pattern fits names of any kind
	first, last [256]bool
}

func (e *edges) add(p *Pattern) {
	switch {
	case !p.exact || p.wide || p.prefix+p.ending == "":
		e.any = true
	case p.ending != "":
		e.last[p.ending[len(p.ending)-1]] = true
	default:
		e.first[p.prefix[0]] = true
	}
}

// rulesOut tells that no plain pattern fits a name.
func (e *edges) rulesOut(name string) bool {
	return !e.any && (name == "" || !e.first[name[0]] && !e.last[name[len(name)-1]])
}

// CompileList reads all patterns. With an error comes the index of the pattern it is about.
func CompileList(texts []string, o Options) (*List, int, error) {
	l := &List{}
	for i, t := range texts {
		body, negated := strings.CutPrefix(t, "!")
		p, err := Compile(body, o)
		if err != nil {
			return nil, i, err
		}
		if negated {
			l.not = append(l.not, p)
		} else {
			l.plain = append(l.plain, p)
		}
	}
	if len(l.plain) == 0 {
		all, err := Compile("*", o)
		if err != nil {
			return nil, 0, err
		}
		l.plain = []*Pattern{all}
	}
	for _, p := range l.plain {
		l.edges.add(p)
	}
	return l, 0, nil
}

// Match returns the captures of the first plain pattern that fits.
func (l *List) Match(name, rel string) (captures map[string]string, ok bool) {
	name, rel = normal(name), normal(rel)
	if l.edges.rulesOut(name) {
		return nil, false
	}
	for _, p := range l.plain {
		if captures, ok = p.find(name, rel, true); ok {
			break
		}
	}
	return captures, ok && !l.excluded(name, rel)
}

// Fits is Match without the captures.
func (l *List) Fits(name, rel string) bool {
	name, rel = normal(name), normal(rel)
	if l.edges.rulesOut(name) {
		return false
	}
	for _, p := range l.plain {
		if p.match(name, rel) {
			return !l.excluded(name, rel)
		}
	}
	return false
}

// excluded takes names in their normal form.
func (l *List) excluded(name, rel string) bool {
	for _, p := range l.not {
		if p.match(name, rel) {
			return true
		}
	}
	return false
}

// Shared lists the captures that every plain pattern has: only those may be
// placeholders. Partial lists the ones that some patterns lack.
func (l *List) Shared() (shared, partial []string) {
	count := map[string]int{}
	var order []string
	for _, p := range l.plain {
		for _, n := range p.Names() {
			if count[n] == 0 {
				order = append(order, n)
			}
			count[n]++
		}
	}
	for _, n := range order {
		if count[n] == len(l.plain) {
			shared = append(shared, n)
		} else {
			partial = append(partial, n)
		}
	}
	return shared, partial
}

// Covers reports whether a list surely fits every name that another one fits; nil is one that
// fits all names.
func (l *List) Covers(m *List) bool {
	if len(l.not) > 0 {
		return false
	}
	all := slices.ContainsFunc(l.plain, func(p *Pattern) bool { return p.simple && !p.wide && p.prefix+p.ending == "" })
	if all || m == nil {
		return all
	}
	return !slices.ContainsFunc(m.plain, func(q *Pattern) bool {
		return !slices.ContainsFunc(l.plain, func(p *Pattern) bool { return p.covers(q) })
	})
}

// covers reports whether a pattern surely fits every name that another one fits: it is the same
// one, or no more than a beginning and an end that the other has, too.
func (p *Pattern) covers(q *Pattern) bool {
	if p.text == q.text && p.exact == q.exact {
		return true
	}
	if !p.simple || p.wide || q.wide || !p.exact || !q.exact {
		return false
	}
	if q.prefix == q.ending { // perhaps one name and no other: its beginning is its end
		return p.match(q.prefix, q.prefix) && q.re.NumSubexp() == 0 && !strings.ContainsAny(q.text, "*?[{<")
	}
	return strings.HasPrefix(q.prefix, p.prefix) && strings.HasSuffix(q.ending, p.ending)
}

// Endings lists the literal endings of the plain patterns.
func (l *List) Endings() []string {
	var endings []string
	for _, p := range l.plain {
		if p.ending != "" {
			endings = append(endings, p.ending)
		}
	}
	return endings
}

// Apart reports whether surely no name fits both lists, by the literal beginnings and
// endings of their patterns. False says nothing.
func (l *List) Apart(m *List) bool {
	for _, a := range l.plain {
		for _, b := range m.plain {
			if !a.apart(b) {
				return false
			}
		}
	}
	return true
}

// apart tells it of two patterns for names.
func (p *Pattern) apart(q *Pattern) bool {
	if p.wide || q.wide {
		return false
	}
	differ := func(a, b string, has func(s, part string) bool) bool {
		if !p.exact || !q.exact {
			a, b = strings.ToLower(a), strings.ToLower(b)
		}
		return a != "" && b != "" && !has(a, b) && !has(b, a)
	}
	return differ(p.ending, q.ending, strings.HasSuffix) || differ(p.prefix, q.prefix, strings.HasPrefix)
}
