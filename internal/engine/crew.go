package engine

import "sync"

// crew carries out attempts. Its goroutines stay for the next one, because their
// stacks have grown by then: to grow one takes as long as to read a small file.
// They end with the crew.
type crew struct {
	tasks chan func() // who is idle waits at its other end
	all   sync.WaitGroup
}

func newCrew() *crew { return &crew{tasks: make(chan func())} }

// begin has a task carried out at once.
func (c *crew) begin(task func()) {
	select {
	case c.tasks <- task:
	default:
		c.all.Go(func() {
			for ; task != nil; task = <-c.tasks {
				task()
			}
		})
	}
}

// end waits for what is under way. Nothing may begin any more.
func (c *crew) end() {
	close(c.tasks)
	c.all.Wait()
}
