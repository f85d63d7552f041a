package ledger

// batch is what one commit writes. Only the newest state of a row counts, so
// a job that passes through several states between two commits is written once.
type batch struct {
	rows  []record
	place map[rowKey]int // index of each row in rows
}

// record is one row to be written. What it is made of is kept, not its
// columns: a row that is recorded again before the commit costs little.
type record struct {
	key       rowKey
	query     string
	args      []any // unless one of the following is set
	job       *Job
	was       State // job: the state that the file has, "" if it has none
	placement *Placement
	known     *Known
	knownKey  *knownKey // leaves the memory of what is not yet in the file
}

// columns are the values of the row.
func (r *record) columns() []any {
	switch {
	case r.job != nil:
		return jobValues(r.job)
	case r.placement != nil:
		return placementValues(r.placement)
	case r.known != nil:
		return knownValues(r.known)
	}
	return r.args
}

// rowKey names a row: its table, its number, and for known files their key.
type rowKey struct {
	table string
	id    int64
	sub   int
	known knownKey
}

type tallyKey struct {
	rule  string
	state State
}

func newBatch() *batch {
	return &batch{place: map[rowKey]int{}}
}

// put adds a row, or replaces what was to be written for it; it tells how many
// rows that makes more.
func (b *batch) put(r record) int64 {
	if i, ok := b.place[r.key]; ok {
		if r.job != nil {
			r.was = b.rows[i].was
		}
		b.rows[i] = r
		return 0
	}
	b.place[r.key] = len(b.rows)
	b.rows = append(b.rows, r)
	return 1
}

// take takes a row out, for another batch.
func (b *batch) take(key rowKey) (record, bool) {
	i, ok := b.place[key]
	if !ok {
		return record{}, false
	}
	r := b.rows[i]
	b.rows[i] = record{}
	delete(b.place, key)
	return r, true
}

// follow adds a later batch to this one.
func (b *batch) follow(later *batch) {
	for _, r := range later.rows {
		if r.query != "" {
			b.put(r)
		}
	}
}

// cut takes at most n rows off the front.
func (b *batch) cut(n int) *batch {
	front := newBatch()
	n = min(n, len(b.rows))
	front.follow(&batch{rows: b.rows[:n]})
	rest := newBatch()
	rest.follow(&batch{rows: b.rows[n:]})
	*b = *rest
	return front
}

// tally is how the numbers of jobs change with this batch.
func (b *batch) tally() map[tallyKey]int {
	tally := map[tallyKey]int{}
	for _, r := range b.rows {
		if r.job == nil || r.was == r.job.State {
			continue
		}
		tally[tallyKey{r.job.Rule, r.job.State}]++
		if r.was != "" {
			tally[tallyKey{r.job.Rule, r.was}]--
		}
	}
	return tally
}

func (b *batch) empty() bool { return len(b.place) == 0 }
