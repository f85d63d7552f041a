package ledger

import "time"

// add has a row made durable with the next commit.
func (w *writer) add(key rowKey, r *record) {
	w.mu.Lock()
	w.addTo(w.rows.row(key), r)
}

// keyed is a record and the row that it is for.
type keyed struct {
	key rowKey
	r   *record
}

// addTogether has rows made durable in one commit: all of them, or none.
func (w *writer) addTogether(list []keyed) {
	w.mu.Lock()
	var more int64
	for i, one := range list {
		to := w.rows.row(one.key)
		if n := w.rows.add(to, one.r); n > 0 {
			more, to.with = more+n, i > 0
		}
	}
	w.added(more)
}

// addNamed is add for a row that has no number.
func (w *writer) addNamed(name rowName, r *record) {
	w.mu.Lock()
	w.addTo(w.rows.rowOf(name), r)
}

// addTo is called with the lock held, and gives it back.
func (w *writer) addTo(to *row, r *record) { w.added(w.rows.add(to, r)) }

// added notes that there are more rows to be written, with the lock held, and gives it back.
func (w *writer) added(more int64) {
	w.came += more
	n := len(w.rows.urgent)
	first := more > 0 && int64(n) == more
	if first {
		w.busy = time.Now() // and again when they are written
	}
	w.mu.Unlock()
	if first || more > 0 && n >= maxRows && int64(n)-more < maxRows { // it knows of the others
		w.wake()
	}
}
