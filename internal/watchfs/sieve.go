package watchfs

import (
	"os"
	"path/filepath"
	"slices"
	"sync/atomic"
	"time"
)

// Sieve looks at what a sweep comes upon before that is told.
type Sieve interface {
	// Quiet marks the files of an open folder of which nothing need be told. The entries are in
	// their order. It calls answered each time when the file system has answered, and may be
	// called for several parts at once.
	Quiet(d *os.File, entries []Entry, quiet []bool, answered func())
}

const (
	siftTogether   = 4096 // entries that go through a sieve at once
	remoteTogether = 32   // and where they are on another machine: each look may take long
	leastBeside    = 64   // so many it pays to sift beside the sweep
	abreast        = 8    // parts that are sifted at once
)

// sifting is a part of a folder on its way through the sieve. Parts are sifted beside the sweep,
// which reads the next folders meanwhile, and told in the order in which they were come upon.
type sifting struct {
	d       *os.File // the folder
	last    bool     // nothing comes after it but closing the folder
	entries []Entry
	quiet   []bool
	done    chan struct{} // closed when it is through
	answers atomic.Int64  // how often the file system has answered
}

// sift has entries of a folder told, but for what the sieve keeps quiet.
func (s *sweeper) sift(d *os.File, entries []Entry, remote bool) {
	together, least := siftTogether, leastBeside
	if remote {
		together, least = remoteTogether, 0
	}
	for part := range slices.Chunk(entries, together) {
		s.siftPart(d, part, len(part) >= least)
	}
}

func (s *sweeper) siftPart(d *os.File, entries []Entry, beside bool) {
	p := &sifting{d: d, entries: entries, quiet: make([]bool, len(entries)), done: make(chan struct{})}
	switch {
	case s.sieve == nil:
		s.tellPart(p)
		return
	case !beside:
		s.ask(func() { s.sieve.Quiet(d, entries, p.quiet, s.answered) })
		close(p.done)
	default:
		go func() {
			defer close(p.done)
			s.sieve.Quiet(d, entries, p.quiet, func() { p.answers.Add(1) })
		}()
	}
	s.inTurn(p)
}

// close closes a folder when all of it is sifted.
func (s *sweeper) close(d *os.File) {
	if len(s.sifting) == 0 {
		d.Close()
		return
	}
	p := &sifting{d: d, last: true, done: make(chan struct{})}
	close(p.done)
	s.inTurn(p)
}

// inTurn tells what is sifted, but leaves some parts under way.
func (s *sweeper) inTurn(p *sifting) {
	s.sifting = append(s.sifting, p)
	s.tellSifted(abreast)
}

// tellSifted waits for the parts that are under way until so many are left, and tells them.
func (s *sweeper) tellSifted(leave int) {
	for len(s.sifting) > leave {
		s.tellFirst()
	}
}

// tellFirst waits for the part that was come upon first, and tells it.
func (s *sweeper) tellFirst() {
	p := s.sifting[0]
	s.sifting = slices.Delete(s.sifting, 0, 1)
	s.await(p)
	if p.last {
		p.d.Close()
	}
	s.tellPart(p)
}

func (s *sweeper) tellPart(p *sifting) {
	for i, e := range p.entries {
		if !p.quiet[i] {
			s.tell(Event{Kind: Found, Path: filepath.Join(p.d.Name(), e.Name()), Dir: e.Dir()})
		}
	}
}

// await waits until a part is through. As long as the file system answers, it counts as asked anew.
func (s *sweeper) await(p *sifting) {
	s.ask(func() {
		tick := time.NewTicker(silence / 4)
		defer tick.Stop()
		for seen := p.answers.Load(); ; {
			select {
			case <-p.done:
				return
			case <-tick.C:
				if n := p.answers.Load(); n != seen {
					seen = n
					s.answered()
				}
			}
		}
	})
}
