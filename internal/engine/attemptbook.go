package engine

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"stilltide/internal/byhand"
	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/turn"
	"stilltide/internal/work"
)

// keptBy are the places where placements keep what they replace.
func keptBy(list []*job.Placement) (paths []string) {
	for _, p := range list {
		if p.Replaced {
			paths = append(paths, p.Kept)
		}
	}
	return paths
}

// attemptBook is the engine's side of one attempt's placements.
type attemptBook struct {
	e     *Engine
	job   int64
	set   *plan.Set
	rule  string
	chain []string // rules that the input went through before
}

func (b *attemptBook) Number() int64 { return b.e.ledger.NextPlacement() }

func (b *attemptBook) Held(path string, wait bool) bool {
	if wait {
		return b.e.inHand.Wait(b.job, path)
	}
	return b.e.inHand.HeldBesides(b.job, path)
}

func (b *attemptBook) Intend(list []*job.Placement) error {
	for _, p := range list {
		if err := b.e.inHand.Take(p); err != nil {
			return err
		}
	}
	b.e.desk.Kept.Need(keptBy(list)...)
	for _, p := range list {
		b.e.ledger.RecordPlacement(*p)
	}
	if err := b.e.ledger.Sync(b.e.desk.Runs); err != nil {
		return fmt.Errorf("the ledger cannot be written: %w", err)
	}
	return b.announce(list)
}

// announce tells the flow of files that are about to come to watched folders, or
// to go from there, so that it knows them before it sees them. At the start no loop listens yet.
func (b *attemptBook) announce(list []*job.Placement) error {
	var come, gone []*job.Placement
	for _, p := range list {
		if p.After.Exists && p.Kind != job.Tagged && b.set.Watched(p.Target) {
			come = append(come, p)
		}
		if !p.Kind.Adds() && p.Kind != job.Tagged && b.set.Watched(p.Source) {
			gone = append(gone, p)
		}
	}
	if len(come)+len(gone) == 0 || !b.e.listens {
		return nil
	}
	return b.e.do(func() { b.e.flow.Announce(b.job, b.rule, b.chain, come, gone) })
}

func (b *attemptBook) Stays(p *job.Placement, all []*job.Placement) error {
	return byhand.Stays(b.e.ledger, p, all)
}

func (b *attemptBook) Did(p *job.Placement) {
	b.e.inHand.Has(p)
	if p.State == job.Undone && !p.Kind.Adds() {
		// Without what the ledger cannot read, an undo of an earlier job says that the file has changed.
		_ = work.BackAt(b.e.ledger, p, work.LookAt(p.Source, p.Facts.Dir))
	}
	b.e.ledger.RecordPlacement(*p)
}

func (b *attemptBook) Answers(path string) error { return b.e.answers.Reach(path, b.e.stepPatience()) }

func (b *attemptBook) There(folder string) error {
	err := b.e.answers.Reach(folder, b.e.stepPatience())
	if err == nil {
		err = b.e.desk.Mounted(folder)
	}
	if errors.As(err, new(plan.NoAnswer)) {
		return err
	}
	if err != nil {
		return fmt.Errorf("%w: %w", work.ErrDiskAway, err)
	}
	return nil
}

func (b *attemptBook) Ours(rule, target string, f file.Facts) bool {
	if b.e.ledger.Flush() != nil {
		return false
	}
	p, ok, err := b.e.ledger.PlacedBy(rule, target)
	return err == nil && ok && p.After.Size == f.Size && p.After.Mod == f.Mod
}

func (b *attemptBook) MadeFrom(rule, target string) string {
	if b.e.ledger.Flush() != nil {
		return ""
	}
	return byhand.MadeFrom(b.e.ledger, rule, target)
}

func (b *attemptBook) Notice(channel, text string, job plan.Job) {
	_ = b.e.do(func() { // a watcher that is ending sends no notices
		b.e.flow.Notify(turn.Notice{Channel: channel, Text: text, Rule: b.rule, Job: job.ID, File: job.Path()})
	})
}

func (b *attemptBook) Lost(folder string, attributes []string) string {
	return b.e.cannotHold(folder, attributes)
}

// cannotHold says once of a folder what it cannot hold of the files that come there, and "" from then on.
func (e *Engine) cannotHold(folder string, attributes []string) string {
	e.health.Lock()
	defer e.health.Unlock()
	if e.health.lost[folder] {
		return ""
	}
	e.health.lost[folder] = true
	slices.Sort(attributes)
	what := strings.Join(slices.Compact(attributes), ", ") // those of a folder are all of its files'
	return fmt.Sprintf("%s cannot hold %s, so files that come there lose them", folder, what)
}

// endCannotHold says it of the folder that a job's file has come to.
func (e *Engine) endCannotHold(folder string, attributes []string) {
	if said := e.cannotHold(folder, attributes); said != "" && e.o.Said != nil {
		e.o.Said(said)
	}
}

// First lists the files that a step leaves a name to.
func (b *attemptBook) First(path string) (files []job.Ahead) {
	ask := func() { files = b.e.flow.Ahead(b.job, path) }
	if !b.e.listens {
		ask()
	} else if err := b.e.do(ask); err != nil {
		return nil
	}
	return files
}
