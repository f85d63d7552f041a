package turn

import "sync/atomic"

// Wish is a name that a job has reserved.
type Wish struct {
	Of            int64 // the job's number
	Path          string
	before, after *Wish       // for the same path, in the order in which their files were taken
	Done          atomic.Bool // it has the name, or one with a number: the job's attempt says so
}

// Next is the wish of the next job for the same path, nil if there is none.
func (w *Wish) Next() *Wish { return w.after }

// Wishes are the names that jobs have reserved, by path, those for one path in the order of the jobs' numbers.
type Wishes map[string]wanting

// wanting is the wishes for one path.
type wanting struct{ first, last *Wish }

// First is the first wish for a path, nil if there is none.
func (l Wishes) First(path string) *Wish { return l[path].first }

// Add takes a wish in.
func (l Wishes) Add(w *Wish) {
	at := l[w.Path]
	w.before = at.last
	for w.before != nil && w.before.Of > w.Of {
		w.before = w.before.before
	}
	if w.before == nil {
		w.after, at.first = at.first, w
	} else {
		w.after, w.before.after = w.before.after, w
	}
	if w.after == nil {
		at.last = w
	} else {
		w.after.before = w
	}
	l[w.Path] = at
}

// Remove takes a wish out.
func (l Wishes) Remove(w *Wish) {
	at := l[w.Path]
	if w.before == nil {
		at.first = w.after
	} else {
		w.before.after = w.after
	}
	if w.after == nil {
		at.last = w.before
	} else {
		w.after.before = w.before
	}
	if at.first == nil {
		delete(l, w.Path)
	} else {
		l[w.Path] = at
	}
	w.before, w.after = nil, nil
}
