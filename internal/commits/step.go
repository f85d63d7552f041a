package commits

// step does the work of the writing goroutine until no caller waits, or a
// commit fails; at the end until all is written.
func (w *Writer) step() error {
	for {
		c, _, _ := w.next()
		if c.empty() {
			w.tell(w.told())
			return nil
		}
		err := w.carryOut(&c)
		w.committed(&c, err)
		if err != nil {
			return err
		}
		w.tell(w.told())
		w.mu.Lock()
		more := len(w.waiting) > 0 || w.closing
		w.mu.Unlock()
		if !more {
			return nil
		}
	}
}

// stepFor steps for the caller that done belongs to. After a failed commit it does not wait any longer.
func (w *Writer) stepFor(done chan error) error {
	err := w.step()
	select {
	case told := <-done:
		return told
	default:
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	w.waiting = nil
	return err
}
