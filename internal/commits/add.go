package commits

import (
	"time"

	"stilltide/internal/tables"
)

// Add has a row made durable with the next commit.
func (w *Writer) Add(key tables.RowKey, r *tables.Record) {
	w.mu.Lock()
	w.addTo(w.rows.Row(key), r)
}

// AddTogether has rows made durable in one commit: all of them, or none.
func (w *Writer) AddTogether(list []tables.Keyed) {
	w.mu.Lock()
	var more int64
	for i, one := range list {
		to := w.rows.Row(one.Key)
		if n := w.rows.Add(to, one.Record); n > 0 {
			more, to.With = more+n, i > 0
		}
	}
	w.added(more)
}

// AddNamed is add for a row that has no number.
func (w *Writer) AddNamed(name tables.RowName, r *tables.Record) {
	w.mu.Lock()
	w.addTo(w.rows.RowOf(name), r)
}

// addTo is called with the lock held, and gives it back.
func (w *Writer) addTo(to *tables.Row, r *tables.Record) { w.added(w.rows.Add(to, r)) }

// added notes that there are more rows to be written, with the lock held, and gives it back.
func (w *Writer) added(more int64) {
	w.came += more
	n := len(w.rows.Urgent)
	first := more > 0 && int64(n) == more
	if first {
		w.busy = time.Now() // and again when they are written
	}
	w.mu.Unlock()
	if first || more > 0 && n >= maxRows && int64(n)-more < maxRows { // it knows of the others
		w.wake()
	}
}
