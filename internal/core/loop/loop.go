// Package loop tracks which job a file came from, and stops loops.
//
// One rule may write where another watches: that is a chain, and chains are a
// feature. A chain that returns to a rule it has passed through is a loop, and
// a disaster. Where our own placements put files is known for certain, and a
// rule does not take a file that has passed through it (loops: stop). Files
// that a command writes on its own can only be suspected. Nothing is ignored on
// suspicion, but the depth is counted, and at Deepest the rule is blocked.
package loop

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"stilltide/internal/core/file"
)

// Deepest is the depth of suspected descent at which a rule stops.
const Deepest = 5

// Short is the time in which the same file, changed by its own job again and
// again, counts as a loop.
const Short = time.Minute

// MaxPasses bounds the passes of one sweep, in case a rule may take what it
// places itself (loops: allow).
const MaxPasses = 50

// Book keeps what is known of files' descent. The zero value is ready to use.
type Book struct {
	placed  map[string]descent // by path
	suspect map[string]int     // by path: depth of suspected descent
	again   map[string][]time.Time
}

// descent is where a file or a whole folder comes from.
type descent struct {
	facts file.Facts // as it was placed
	rules []string   // that it went through
	depth int        // of suspected descent
}

// Placed notes that a job of a rule put a file at a path; chain are the rules
// that its input had gone through, depth is its input's.
func (b *Book) Placed(path string, f file.Facts, rule string, chain []string, depth int) {
	if b.placed == nil {
		b.placed = map[string]descent{}
	}
	b.placed[path] = descent{f, Through(chain, rule), depth}
	delete(b.suspect, path)
}

// Through returns the rules that a file has gone through after one more: each once.
func Through(chain []string, rule string) []string {
	if slices.Contains(chain, rule) {
		return chain
	}
	return append(slices.Clone(chain), rule)
}

// Empty tells that nothing is known of any file.
func (b *Book) Empty() bool { return len(b.placed)+len(b.suspect) == 0 }

// Chain returns the rules that the file at a path went through. Another file, which came to
// have the path since, went through none.
func (b *Book) Chain(path string, f file.Facts) []string {
	if d := b.placed[path]; d.is(f) {
		return d.rules
	}
	return nil
}

// is reports whether a file is still the one that was placed.
func (d descent) is(f file.Facts) bool {
	return d.facts.Dir == f.Dir && (f.Dir || d.facts.Size == f.Size && d.facts.Mod == f.Mod)
}

// FolderChain returns the rules that all went through that lies in a folder, because the
// folder was placed as a whole.
func (b *Book) FolderChain(path string) []string {
	if d := b.placed[path]; d.facts.Dir {
		return d.rules
	}
	return nil
}

// Forget drops what is known of a path, when its file is gone or is another.
func (b *Book) Forget(path string) {
	delete(b.placed, path)
	delete(b.suspect, path)
}

// Stops reports whether a rule must not take a file because it went through it.
func Stops(rule string, chain []string) bool { return slices.Contains(chain, rule) }

// Running is a job that was under way when a file appeared.
type Running struct {
	Input string
	Depth int
}

// Appeared notes that a file appeared while jobs of a rule that watches its
// folder were running. A name that holds an input's stem is suspected to be
// that job's output.
func (b *Book) Appeared(path string, running []Running) {
	name := filepath.Base(path)
	for _, r := range running {
		if r.Input == path || !strings.Contains(name, stem(r.Input)) {
			continue
		}
		b.suspected(path, r.Depth+1)
	}
}

// Changed notes that a file that came from a rule changed while a job of a depth ran on it, which may have changed it:
// a rule that takes it for a new one may make it again.
func (b *Book) Changed(path string, depth int) { b.suspected(path, depth+1) }

func (b *Book) suspected(path string, depth int) {
	if b.suspect == nil {
		b.suspect = map[string]int{}
	}
	b.suspect[path] = max(b.suspect[path], depth)
}

func stem(path string) string {
	name := filepath.Base(path)
	if i := strings.LastIndexByte(name, '.'); i > 0 {
		return name[:i]
	}
	return name
}

// Depth is the depth of suspected descent of the file at a path: that of one that was placed there, and one more if it
// has changed since.
func (b *Book) Depth(path string, f file.Facts) int {
	depth := b.suspect[path]
	switch d, placed := b.placed[path]; {
	case placed && d.is(f):
		depth = max(depth, d.depth)
	case placed:
		depth = max(depth, d.depth+1)
	}
	return depth
}

// Blocks says why a rule stops; name is as it is written in a command.
func Blocks(path, name string) string {
	return fmt.Sprintf("it loops: %s changes each time its own job runs; stilltide resume %s goes on "+
		"(while_running: own_work takes such changes as the job's own)", path, name)
}

// Again notes that a file changed while its own job of a rule ran. It is true
// when that has happened Deepest times in a Short time.
func (b *Book) Again(rule, path string, now time.Time) bool {
	if b.again == nil {
		b.again = map[string][]time.Time{}
	}
	key := rule + "\x00" + path
	times := append(b.again[key], now)
	times = slices.DeleteFunc(times, func(t time.Time) bool { return now.Sub(t) > Short })
	b.again[key] = times
	if len(times) < Deepest {
		return false
	}
	delete(b.again, key)
	return true
}
