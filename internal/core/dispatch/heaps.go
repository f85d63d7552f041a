package dispatch

// readyHeap orders the jobs that may start by the rule's order, then by arrival.
type readyHeap struct {
	order   Order
	entries []*entry
}

func (h *readyHeap) Len() int { return len(h.entries) }

func (h *readyHeap) Less(i, j int) bool {
	a, b := h.entries[i], h.entries[j]
	switch h.order {
	case ByName:
		if a.Path != b.Path {
			return a.Path < b.Path
		}
	case Oldest:
		if a.Mod != b.Mod {
			return a.Mod < b.Mod
		}
	case Newest:
		if a.Mod != b.Mod {
			return a.Mod > b.Mod
		}
	case Smallest:
		if a.Size != b.Size {
			return a.Size < b.Size
		}
	}
	return a.ID < b.ID
}

func (h *readyHeap) Swap(i, j int) { swap(h.entries, i, j) }
func (h *readyHeap) Push(x any)    { push(&h.entries, x.(*entry)) }
func (h *readyHeap) Pop() any      { return pop(&h.entries) }

// dueHeap orders the jobs that wait for a time.
type dueHeap struct{ entries []*entry }

func (h *dueHeap) Len() int { return len(h.entries) }

func (h *dueHeap) Less(i, j int) bool {
	a, b := h.entries[i], h.entries[j]
	if !a.Due.Equal(b.Due) {
		return a.Due.Before(b.Due)
	}
	return a.ID < b.ID
}

func (h *dueHeap) Swap(i, j int) { swap(h.entries, i, j) }
func (h *dueHeap) Push(x any)    { push(&h.entries, x.(*entry)) }
func (h *dueHeap) Pop() any      { return pop(&h.entries) }

func swap(list []*entry, i, j int) {
	list[i], list[j] = list[j], list[i]
	list[i].slot, list[j].slot = i, j
}

func push(list *[]*entry, e *entry) {
	e.slot = len(*list)
	*list = append(*list, e)
}

func pop(list *[]*entry) *entry {
	old := *list
	e := old[len(old)-1]
	old[len(old)-1] = nil
	*list = old[:len(old)-1]
	return e
}
