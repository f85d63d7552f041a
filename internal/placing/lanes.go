package placing

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"sync"

	"stilltide/internal/core/turn"
	"stilltide/internal/watchfs"
)

// lanes carry what has to be copied to another file system, each file system in
// a lane of its own: a large file, or a disk that is slow or does not answer,
// holds up no one else.
type lanes struct {
	d       *Desk
	workers sync.WaitGroup

	mu   sync.Mutex
	open map[string]*lane // by file system
}

// lane is the way to one file system.
type lane struct {
	waiting []goes
	busy    []string // the targets of what is under way
	workers int
	copying int // of what is under way, what may have to be copied
}

// goes is a placing on its way.
type goes struct {
	*turn.Placing
	unsure bool // it goes to, or comes from, a file system that may not answer
	within bool // both: it is renamed there
}

const (
	// MaxCopies bounds the copies to one file system that are under way at once:
	// while one waits for the disk, another is read.
	MaxCopies = 2
	// MaxWithin bounds what is renamed at once on a file system that may not answer: most of what that takes is the
	// way there and back.
	MaxWithin = 8
)

// add puts a placing last. Two of the same target follow one upon the other.
func (l *lanes) add(p *turn.Placing) {
	device := l.d.wayOf(p)
	l.mu.Lock()
	defer l.mu.Unlock()
	way := l.open[device]
	if way == nil {
		way = &lane{}
		l.open[device] = way
	}
	one := goes{Placing: p}
	if _, one.unsure = l.d.unsureWay(p); one.unsure {
		one.within = l.d.within(p, device)
		l.d.far.Add(1)
	}
	way.waiting = append(way.waiting, one)
	if way.wants(one) {
		way.workers++
		l.workers.Go(func() { l.work(device, way) })
	}
}

// wants reports whether a placing that has come is to have a worker more.
func (way *lane) wants(p goes) bool {
	return way.workers < MaxCopies || p.within && way.workers < MaxWithin
}

// wayOf names the file system that a placing goes to, or the one that may not answer, if
// it goes to such a one or comes from there.
func (d *Desk) wayOf(p *turn.Placing) string {
	if point, unsure := d.unsureWay(p); unsure {
		return point
	}
	folder := filepath.Dir(p.Landed)
	if len(p.Moves) > 0 {
		folder = p.Moves[0].To.Root
	}
	info, err := os.Stat(folder)
	if err != nil {
		return ""
	}
	return fmt.Sprint(watchfs.Facts(info).Dev) // 0 where the system has no numbers for them
}

// unsureWay is the file system that may not answer to which a placing goes, or from which
// it comes.
func (d *Desk) unsureWay(p *turn.Placing) (point string, unsure bool) {
	if !d.answers.Any() {
		return "", false
	}
	for i := range p.Moves {
		m := &p.Moves[i]
		for _, path := range []string{m.Record.Source, m.To.Root} {
			if point, unsure = d.answers.Unsure(path); unsure {
				return point, true
			}
		}
	}
	return "", false
}

// within reports whether all that a placing moves comes from and goes to a file system that may not answer.
func (d *Desk) within(p *turn.Placing, point string) bool {
	for i := range p.Moves {
		m := &p.Moves[i]
		for _, path := range []string{m.Record.Source, m.To.Root} {
			if at, _ := d.answers.Unsure(path); at != point {
				return false
			}
		}
	}
	return true
}

// work places until there is nothing left for it.
func (l *lanes) work(device string, way *lane) {
	for {
		p, some := l.next(device, way)
		if !some {
			return
		}
		by := l.d.mover()
		done := by.place(p.Placing, nil)
		by.end()
		l.mu.Lock()
		for _, t := range targets(p.Placing) {
			at := slices.Index(way.busy, t)
			way.busy = slices.Delete(way.busy, at, at+1)
		}
		if !p.within {
			way.copying--
		}
		l.mu.Unlock()
		if p.unsure {
			l.d.far.Add(-1)
		}
		l.d.Ends <- []turn.PlacingEnd{done}
	}
}

// next takes the first that goes to no target that is busy, and that is no copy too many. If there is none,
// the worker ends, and with the last one the lane: a busy one takes over what is left.
func (l *lanes) next(device string, way *lane) (next goes, some bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for i, p := range way.waiting {
		to := targets(p.Placing)
		if slices.ContainsFunc(to, func(t string) bool { return slices.Contains(way.busy, t) }) ||
			!p.within && way.copying == MaxCopies {
			continue
		}
		way.waiting = slices.Delete(way.waiting, i, i+1)
		way.busy = append(way.busy, to...)
		if !p.within {
			way.copying++
		}
		return p, true
	}
	if way.workers--; way.workers == 0 {
		delete(l.open, device)
	}
	return goes{}, false
}

// targets are the paths that a placing wants.
func targets(p *turn.Placing) []string {
	list := make([]string, len(p.Moves))
	for i := range p.Moves {
		list[i] = p.Moves[i].To.Path()
	}
	return list
}
