//go:build linux

package engine

import (
	"context"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"stilltide/internal/core/file"
	"stilltide/internal/core/flow"
	"stilltide/internal/core/job"
	"stilltide/internal/core/notation"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/core/turn"
	"stilltide/internal/core/underway"
	"stilltide/internal/ledger"
	"stilltide/internal/machine"
	"stilltide/internal/placing"
	"stilltide/internal/sift"
	"stilltide/internal/watchfs"
	"stilltide/internal/work"
)

var (
	simSeeds = flag.Int("sim.seeds", machine.Worlds(60), "how many seeds the simulation runs")
	simFirst = flag.Uint64("sim.first", 1, "the first of them")
	simSeed  = flag.Uint64("sim.seed", 0, "run this one seed of the simulation")
)

const simRules = `version: 1
workers: 2
fleet: {server: "nats://127.0.0.1:1", key_file: none.nk}
rules:
  - {name: work, watch: in, match: "*.work", debounce: 500ms, run: "do {file}", retry: {times: 2, delay: 1s}, processed: done, failed: failed}
  - {name: move, watch: in, match: "*.move", debounce: 0s, where: 'media_type != "image/png"', processed: "sorted/{stem}"}
  - {name: stay, watch: in, match: "*.stay", debounce: 200ms, where: size(tags) == 0, run: "do {file}", retry: 1}
  - {name: tell, watch: in, match: "*.told", debounce: 200ms, events: [added, changed, removed], run: "do {file}", retry: 1}
  - {name: set, watch: in, match: "<n>.{a,b}", debounce: 0s, group: {by: "{n}", need: ["*.a", "*.b"], max_wait: 5m}, run: "do", retry: 1, processed: sets, failed: failed}
  - name: steps
    watch: in
    match: "*.steps"
    debounce: 0s
    do: [{copy: copies}, {rename: "{stem}.renamed"}, {copy: "copies/again", same_name: replace}, {run: do}, {move: "moved/{stem}"}]
    retry: {times: 2, delay: 1s}
    processed: stepped
    failed: failed
  - {name: next, watch: in, match: "*.renamed", debounce: 0s, run: "do {file}", retry: 1, processed: done, failed: failed}
  - {name: heap, watch: in, match: "*.heap", debounce: 0s, batch: {quiet: 1s, max_files: 3}, run: do, retry: 1, processed: heaps, failed: failed}
  - {name: keyed, watch: in, match: "*.key", debounce: 0s, serial_by: "{size}", order: newest, run: "do {file}", retry: 1, processed: done, failed: failed}
  - {name: whole, watch: in, match: "*.whole", unit: folder, debounce: 200ms, run: "do {file}", retry: 1, processed: wholes, failed: failed}
  - {name: once, watch: in, match: "*.once", debounce: 0s, again: never, run: "do {file}", retry: 1}
  - {name: names, watch: in, match: "*.named", debounce: 200ms, events: [added, changed, renamed, removed], run: "do {file}", retry: 1}
  - {name: first, watch: in, match: "*.both", debounce: 0s, share: true, run: "do {file}", retry: 1}
  - {name: second, watch: in, match: "*.both", debounce: 100ms, run: "do {file}", retry: 1, processed: done, failed: failed}
  - {name: small, watch: in, match: "*.sized", debounce: 0s, where: size < 11, run: "do {file}", retry: 1, processed: small, failed: failed}
  - {name: large, watch: in, match: "*.sized", debounce: 100ms, run: "do {file}", retry: 1, processed: large, failed: failed}
  - {name: hold, watch: in, match: "*.hold", debounce: 0s, pool: heavy, run: "do {file}", retry: {times: 2, delay: 1s}, processed: done, failed: failed}
  - {name: here, watch: in, match: "*.here", debounce: 0s, pool: heavy, while_away: run_here, run: "do {file}", retry: 1, processed: done, failed: failed}
`

// otherRules are the same rules after a person has edited them: some say otherwise, one is gone.
var otherRules = strings.NewReplacer(
	"debounce: 500ms", "debounce: 100ms",
	`processed: "sorted/{stem}"`, `processed: "sorted/other/{stem}"`,
	"max_files: 3", "max_files: 2",
	"processed: heaps", "processed: other/heaps",
	"max_wait: 5m", "max_wait: 1m",
	`match: "*.hold"`, `match: "*.hold2"`,
	"where: size < 11", "where: size < 9",
	`  - {name: keyed, watch: in, match: "*.key", debounce: 0s, serial_by: "{size}", order: newest, run: "do {file}", retry: 1, processed: done, failed: failed}
`, "").Replace(simRules)

// world is a seeded world around the real flow, recovery and placing: files
// that come, grow, change and vanish, commands that succeed, fail and hang,
// a ledger that forgets what was not committed, refused file operations, and
// crashes between any two effects.
type world struct {
	t     *testing.T
	seed  uint64
	r     *rand.Rand
	dir   string
	rules *rule.File // as they are now
	other *rule.File // and as they may be
	store *checkedStore
	e     *Engine
	now   time.Time

	serial  int
	kinds   []string             // endings of the files that come
	writing map[string]bool      // files that somebody holds open for writing
	changed map[string]time.Time // when a file last changed, in the world's time
	running []*turn.Attempt
	stops   map[int64]bool  // attempts that are to be stopped
	reads   []turn.Read     // that the flow has asked for
	answers []turn.Answer   // that it has not heard
	apart   []func() func() // what the engine does beside its loop
	brings  []func()        // and what it has not heard of that
	slow    bool            // that does not come to its end yet
	dirty   []string        // paths whose event was not told yet
	late    []string        // and those whose event is on its way
	removed map[string]bool // inputs that the user took away
	// inputs whose job was taken out of the queue
	cancelled map[string]bool
	undone    map[string]bool // inputs whose job may have been undone
	wanted    map[int64]bool  // jobs that a person has retried
	again     map[int64]bool  // jobs that were processed, and retried by hand
	begun     map[int64]bool  // jobs that were to be undone: a fault may have come in the middle
	handled   map[string]bool // paths of files that undo has put back, and that are as they were
	handy     bool            // a person asks for much
	gone      map[string]bool // paths of files that the user took away
	off       map[int64]bool  // jobs that were cancelled, as the person was told
	errand    *errand
	content   map[string]handled
	grown     map[string]bool // inputs that the user changed: their earlier content may have been placed already
	tries     map[string]int  // attempts that ran, by input content
	pool      turn.Pool       // of other machines, as it stands now
	paused    job.Pauses      // as the ledger has it after a crash
	absent    bool            // the watched folder is not there
	faults    bool
	far       bool // renames go to another file system, often
	calm      bool // no crash comes any more
	crashIn   int  // operations on files until a crash, 0 for none
	hadCrash  int
	trace     []string
}

// crashed is what a simulated crash panics with.
type crashed struct{}

func TestSimulation(t *testing.T) {
	base := machine.Memory(t)
	queued, together := underway.MaxQueued, underway.MaxTogether
	underway.MaxQueued, underway.MaxTogether = 4, 4 // most jobs wait in the ledger alone
	t.Cleanup(func() { underway.MaxQueued, underway.MaxTogether = queued, together })
	if *simSeed > 0 {
		simulate(t, base, *simSeed)
		return
	}
	for seed := *simFirst; seed < *simFirst+uint64(*simSeeds); seed++ {
		if !simulate(t, base, seed) {
			return
		}
	}
}

// newWorld makes a world in a folder of its own.
func newWorld(t *testing.T, base string, seed uint64) *world {
	w := &world{t: t, seed: seed, r: rand.New(rand.NewPCG(seed, 7)), dir: filepath.Join(base, fmt.Sprint(seed)),
		now: time.Now().Add(time.Hour), writing: map[string]bool{}, changed: map[string]time.Time{},
		removed: map[string]bool{}, cancelled: map[string]bool{}, grown: map[string]bool{}, tries: map[string]int{},
		undone: map[string]bool{}, again: map[int64]bool{}, handled: map[string]bool{}, off: map[int64]bool{},
		begun: map[int64]bool{}, gone: map[string]bool{}, content: map[string]handled{}, wanted: map[int64]bool{}}
	if err := os.MkdirAll(filepath.Join(w.dir, "in"), 0o777); err != nil {
		t.Fatal(err)
	}
	w.rules, w.other, w.handy = w.parse(simRules), w.parse(otherRules), w.r.IntN(3) == 0
	if w.kinds = endings; w.r.IntN(2) == 0 { // a world of few kinds has them meet more often
		w.kinds = nil
		for range 1 + w.r.IntN(3) {
			w.kinds = append(w.kinds, kinds[w.r.IntN(len(kinds))]...)
		}
	}
	return w
}

// simulate runs one seed and says whether the promises held.
func simulate(t *testing.T, base string, seed uint64) bool {
	w := newWorld(t, base, seed)
	defer os.RemoveAll(w.dir)
	w.start()
	for range 30 + w.r.IntN(60) {
		w.protected(w.step)
	}
	w.quiet()
	defer w.lose()
	return w.promises()
}

func (w *world) parse(text string) *rule.File {
	f, diags := notation.Parse(filepath.Join(w.dir, "stilltide.yaml"), []byte(text))
	if diags.Failed() {
		w.t.Fatal(diags)
	}
	return f
}

// reload has the watcher read its rules again, which somebody has edited.
func (w *world) reload() {
	w.rules, w.other = w.other, w.rules
	w.say("the rules are edited: %d rules", len(w.rules.All()))
	w.e.o.Rules = w.rules
	w.e.flow.Reload(plan.NewSet(w.rules), w.now)
	w.e.flow.SetPools(map[string]turn.Pool{"heavy": w.pool})
	w.sweep()
}

// say keeps a line for the trace of a failing seed.
func (w *world) say(format string, args ...any) {
	w.trace = append(w.trace, w.now.Format("15:04:05.000 ")+fmt.Sprintf(format, args...))
}

func (w *world) fail(format string, args ...any) bool {
	w.t.Errorf("seed %d: %s\nrun it again with: go test ./internal/engine -run TestSimulation -sim.seed=%d\n%s",
		w.seed, fmt.Sprintf(format, args...), w.seed, strings.Join(w.trace[max(0, len(w.trace)-120):], "\n"))
	return false
}

// start is the start of the watcher: recovery, then a sweep.
func (w *world) start() {
	w.running, w.reads, w.answers, w.stops = nil, nil, nil, map[int64]bool{}
	w.apart, w.brings = nil, nil
	for {
		w.open()
		w.e = &Engine{o: Options{Rules: w.rules}, ledger: w.store, state: w.rules.StateFolder(),
			folders: map[string]*folderState{}, asks: make(chan func())}
		w.e.desk = placing.New(w.store, w.e.state, nil, &w.e.inHand)
		w.e.flow = flow.New(plan.NewSet(w.rules), w.store, &eyes{look: w.look}, &w.e.inHand, w.r.Float64)
		w.e.flow.SetPools(map[string]turn.Pool{"heavy": w.pool})
		w.e.desk.Mounts.Begin(w.store, w.e.flow.Rules(), map[string]string{w.dir: "/"})
		w.e.desk.Placer.Before = w.before
		w.e.health.lost = map[string]bool{}
		for _, sub := range []string{"kept", "output"} {
			if err := os.MkdirAll(filepath.Join(w.e.state, sub), 0o777); err != nil {
				w.t.Fatal(err)
			}
		}
		var err error
		if w.paused, err = w.store.Paused(); err != nil {
			w.t.Fatal(err)
		}
		if w.survives(func() {
			if err := w.e.recover(w.now); err != nil {
				w.t.Fatal(err)
			}
		}) {
			break
		}
		w.lose()
	}
	w.e.listens = true
	w.sweep()
}

// open opens the ledger, after a crash as that has left it.
func (w *world) open() {
	l, err := ledger.OpenStepped(w.rules.StateFolder())
	if err != nil {
		w.t.Fatal(err)
	}
	w.store = &checkedStore{Stepped: l}
}

// lose is what a crash does to the ledger.
func (w *world) lose() {
	w.dropErrand()
	torn := make([]byte, w.r.IntN(300))
	for i := range torn {
		torn[i] = byte(w.r.Uint32())
	}
	if err := w.store.Crash(torn); err != nil {
		w.t.Fatal(err)
	}
}

// before is asked before each operation on a file of ours.
func (w *world) before(operation string, paths ...string) error {
	if w.crashIn > 0 {
		if w.crashIn--; w.crashIn == 0 {
			w.say("crash before %s %v", operation, paths)
			if w.r.IntN(2) == 0 {
				_ = w.store.Flush() // what may be late was written in time
			}
			panic(crashed{})
		}
	}
	if operation == "rename" && w.far && filepath.Dir(paths[0]) != filepath.Dir(paths[1]) {
		// as if the target were on another disk
		return &os.LinkError{Op: operation, Old: "x", New: "y", Err: syscall.EXDEV}
	}
	if w.faults && w.r.IntN(8) == 0 {
		w.say("refused: %s %v", operation, paths)
		return &os.PathError{Op: operation, Path: "x", Err: []error{syscall.ENOSPC, syscall.EACCES, syscall.EIO,
			syscall.EROFS}[w.r.IntN(4)]}
	}
	return nil
}

// survives runs f and tells whether no crash came.
func (w *world) survives(f func()) (ok bool) {
	defer func() {
		if r := recover(); r != nil {
			if _, is := r.(crashed); !is {
				panic(r)
			}
			w.crashIn = 0
			w.hadCrash++
			ok = false
		}
	}()
	f()
	return true
}

// protected runs f; after a crash in it the watcher starts again.
func (w *world) protected(f func()) {
	if !w.survives(f) {
		w.lose()
		if !w.absent && !w.calm && w.r.IntN(2) == 0 {
			w.takeAway() // the disk is not there when the system is up again
		}
		w.start()
	}
}

// look is the real look with the world's writers and times.
func (w *world) look(_ *watchfs.Looker, path string) (file.Facts, error) {
	f, err := watchfs.LookAny(path)
	f.Writers = file.None
	if w.writing[inner(path)] {
		f.Writers = file.Some
	}
	if f.Exists {
		f.Change = file.At(w.changed[inner(path)])
	}
	return f, err
}

func (w *world) sweep() {
	if w.absent {
		w.e.flow.WentAbsent(filepath.Join(w.dir, "in"), false)
		return
	}
	entries, err := os.ReadDir(filepath.Join(w.dir, "in"))
	if err != nil {
		w.t.Fatal(err)
	}
	w.dirty, w.late = nil, nil
	for _, e := range entries {
		path := filepath.Join(w.dir, "in", e.Name())
		bring(w.e.flow, watchfs.Event{Kind: watchfs.Found, Path: path, Dir: e.IsDir()}, w.now)
	}
	w.findMissing()
}

// findMissing looks for what the rules know and is not there, and tells of it in a moment.
func (w *world) findMissing() {
	for _, r := range w.rules.All() {
		if r.Processed != nil {
			continue // its files do not stay
		}
		missing := sift.Missing(w.store, r.Name.S, filepath.Join(w.dir, "in"))
		w.answers = append(w.answers, func(now time.Time) { w.e.flow.Missing(r.Name.S, missing, now) })
	}
}

// step lets one thing happen.
func (w *world) step() {
	if w.handy && w.r.IntN(3) == 0 {
		w.askByHand()
	} else {
		w.happen()
	}
	w.pump()
}

func (w *world) happen() {
	switch w.r.IntN(21) {
	case 0, 1, 2:
		w.arrive()
	case 3:
		w.touchOne([]func(string){w.grow, w.reopen, w.replace}[w.r.IntN(3)])
	case 4:
		w.touchOne([]func(string){w.vanish, w.rename, w.duplicate}[w.r.IntN(3)])
	case 5, 6:
		w.now = w.now.Add(time.Duration(w.r.IntN(1500)) * time.Millisecond)
	case 7, 8:
		w.endAttempt()
	case 9, 10:
		w.placeBatch()
	case 11:
		w.store.refuse(w.t, w.r.IntN(4) == 0)
		_ = w.store.Sync(context.Background()) // it fails while the disk is full
	case 12:
		w.faults, w.far = w.r.IntN(3) == 0, w.r.IntN(2) == 0
	case 13:
		if w.r.IntN(3) == 0 {
			w.say("crash")
			panic(crashed{})
		}
		w.crashIn = 1 + w.r.IntN(8)
		w.endAttempt()
		w.placeBatch()
	case 15:
		w.usePool(turn.Pool{Places: w.r.IntN(3), Away: []string{"", "", "no machine answers"}[w.r.IntN(3)]})
	case 16:
		w.pauseOne()
	case 17:
		w.takeAway()
	case 14, 18, 19:
		w.askByHand()
	case 20:
		if w.r.IntN(2) == 0 {
			w.reload()
		}
	}
}

// pauseOne pauses a rule, or the folder, for a while or for good, or lets all go on.
func (w *world) pauseOne() {
	if w.r.IntN(2) == 0 {
		w.resume()
		return
	}
	name := []string{"", w.rules.All()[w.r.IntN(len(w.rules.All()))].Name.S, filepath.Join(w.dir, "in")}[w.r.IntN(3)]
	until := time.Time{}
	if w.r.IntN(2) == 0 {
		until = w.now.Add(time.Duration(w.r.IntN(3000)) * time.Millisecond)
	}
	w.say("paused: %q until %v", name, until)
	w.e.flow.SetPaused([]string{name}, true, until)
	w.paused[name] = until
}

// resume lets all go on that is paused.
func (w *world) resume() {
	w.say("all goes on")
	w.e.flow.SetPaused(nil, false, time.Time{})
	clear(w.paused)
}

// isPaused reports whether nothing of a rule, or of the folder, may start.
func (w *world) isPaused(rule string) bool {
	for _, name := range []string{"", rule, filepath.Join(w.dir, "in")} {
		if until, is := w.paused[name]; is && (until.IsZero() || until.After(w.now)) {
			return true
		}
	}
	return false
}

// usePool has machines come or go.
func (w *world) usePool(p turn.Pool) {
	w.pool = p
	w.say("the pool has %d places, and is away: %q", p.Places, p.Away)
	w.e.flow.SetPools(map[string]turn.Pool{"heavy": p})
}

// placeIsRight checks where an attempt is to run: in a place of the pool that is free, or here where
// its rule allows that.
func (w *world) placeIsRight(a *turn.Attempt) {
	far := 0
	for _, other := range w.running {
		if other.Away {
			far++
		}
	}
	switch name := a.Plan.Rule.Name.S; {
	case a.Number == 1 && name == "hold" && w.rules.All()[0].Debounce.Duration == 100*time.Millisecond:
		w.fail("an attempt for %s is to run, and no rule takes it any more", a.Plan.File)
	case w.isPaused(name):
		w.fail("an attempt for %s is to run, and %s is paused", a.Plan.File, name)
	case a.Away && (w.pool.Away != "" || far >= w.pool.Places):
		w.fail("an attempt for %s is to run elsewhere, where %d run in %d places (%s)", a.Plan.File, far,
			w.pool.Places, w.pool.Away)
	case !a.Away && (name == "hold" || name == "here" && w.pool.Away == ""):
		w.fail("an attempt for %s is to run here, and must not", a.Plan.File)
	}
}

// pump tells the events, lets the flow decide and takes its effects.
func (w *world) pump() {
	f := w.e.flow
	w.now = w.now.Add(time.Millisecond) // no two rounds are at one time
	if w.r.IntN(2) == 0 {
		w.dirty, w.late = append(w.dirty, w.late...), nil
	}
	for _, p := range w.dirty {
		kind, dir := watchfs.Closed, filepath.Ext(p) == ".whole"
		if _, err := os.Lstat(p); err != nil {
			kind = watchfs.Removed
		} else if w.writing[p] {
			kind = watchfs.Created
		} else if dir || strings.HasPrefix(filepath.Base(p), renamedPrefix) {
			kind = watchfs.Moved
		}
		bring(f, watchfs.Event{Kind: kind, Path: p, Dir: dir}, w.now)
	}
	w.dirty = nil
	w.readSome()
	f.Advance(w.now)
	out := f.Effects()
	defer f.Took()
	w.reads = append(w.reads, out.Reads...)
	for _, id := range out.Stops {
		w.stops[id] = true
	}
	for _, a := range out.Starts {
		for _, other := range w.running {
			if other.Plan.File == a.Plan.File {
				w.fail("two attempts for %s at the same time", a.Plan.File)
			}
		}
		for _, u := range a.Units() {
			p := u.Taken
			w.takes(p)
			if w.writing[inner(p)] {
				w.fail("an attempt started on %s while somebody writes to it", p)
			}
			if content, err := os.ReadFile(inner(p)); err == nil && strings.HasSuffix(string(content), "half") {
				w.fail("an attempt started on half of %s", p)
			}
		}
		w.placeIsRight(a)
		w.turnIsRight(a)
		w.say("attempt %d of job %d: %s", a.Number, a.Plan.ID, filepath.Base(a.Plan.File))
		w.running = append(w.running, a)
	}
	for _, p := range out.Places {
		w.say("job %d is to be placed: %s", p.ID, p.Leads)
		for _, m := range p.Moves {
			w.takes(m.Record.Source)
		}
	}
	w.e.desk.Add(out.Places)
	for _, o := range out.Outcomes {
		w.say("job %d: %s %s", o.Job.ID, o.Job.State, o.Job.Reason)
	}
}

// readSome carries out some of the reads and of what is done beside the loop, and brings some of the answers: each
// takes its time.
func (w *world) readSome() {
	for len(w.reads) > 0 && w.r.IntN(2) == 0 {
		w.answers = append(w.answers, w.reads[0].Do(source{w.store, w.e.flow.Rules(), func() {}}))
		w.reads = w.reads[1:]
	}
	for len(w.answers) > 0 && w.r.IntN(2) == 0 {
		w.answers[0](w.now)
		w.answers = w.answers[1:]
	}
	for len(w.apart) > 0 && !w.slow && w.r.IntN(3) == 0 {
		do := takeOut(&w.apart, w.r.IntN(len(w.apart)))
		w.serve(func() { w.brings = append(w.brings, do()) })
	}
	for len(w.brings) > 0 && w.r.IntN(3) == 0 {
		takeOut(&w.brings, w.r.IntN(len(w.brings)))()
	}
}

// takeOut takes one out of a list: what is done at the same time ends in any order.
func takeOut[T any](list *[]T, i int) T {
	one := (*list)[i]
	*list = slices.Delete(*list, i, i+1)
	return one
}

func (w *world) endAttempt() {
	if len(w.running) == 0 {
		return
	}
	i := w.r.IntN(len(w.running))
	a := w.running[i]
	w.running = slices.Delete(w.running, i, i+1)
	if content, err := os.ReadFile(a.Plan.File); err == nil && strings.Contains(string(content), poison) {
		w.say("attempt of job %d ends the watcher", a.Plan.ID)
		_ = w.store.Sync(context.Background()) // it has been at it for a while
		panic(crashed{})
	}
	exit := 0
	if w.r.IntN(3) == 0 || w.stops[a.Plan.ID] && w.r.IntN(4) > 0 { // else the end comes before the stop
		exit = 1
	}
	delete(w.stops, a.Plan.ID)
	if a.Plan.Rule.Name.S == "steps" {
		w.endSteps(a, exit)
		return
	}
	res := turn.AttemptEnd{ID: a.Plan.ID, OK: exit == 0, Exit: &exit, Ran: time.Second}
	if exit != 0 {
		res.Reason = "it ended with exit code 1"
	}
	if a.Content.Asked {
		content, err := os.ReadFile(a.Plan.File)
		if err == nil {
			res.Hash, res.Handled = string(content), string(content)
			res.Same = w.e.handledBefore(a, res.Hash)
			w.isNew(a, res)
		}
	}
	if a.Away && exit != 0 && w.r.IntN(2) == 0 { // it was never begun there
		res.Waits, res.Exit, res.Reason = true, nil, "no machine of the pool can be reached"
	}
	w.say("attempt of job %d ends: ok %v, away %v", a.Plan.ID, res.OK, res.Waits)
	w.e.flow.AttemptEnded(res, w.now)
}

// endSteps runs an attempt's steps for real, but for the command among them.
func (w *world) endSteps(a *turn.Attempt, exit int) {
	if !w.calm && w.r.IntN(4) == 0 {
		w.crashIn = 1 + w.r.IntN(12)
	}
	under := w.e.workOn(a, filepath.Join(w.e.state, "output", "x"))
	res := turn.AttemptEnd{ID: a.Plan.ID, Ran: time.Second}
	var p *work.Problem
	for i := 0; i < len(a.Plan.Rule.Steps) && p == nil; i++ {
		s := &a.Plan.Rule.Steps[i]
		if s.Runs() && exit != 0 {
			p = &work.Problem{Text: "it ended with exit code 1"}
		} else if !s.Runs() {
			w.serve(func() { p = under.Step(context.Background(), s) })
		}
	}
	w.serve(func() { conclude(under, a, p, &res) })
	w.say("steps of job %d end: ok %v %s; at %s", a.Plan.ID, res.OK, res.Reason, res.Units[0].At)
	w.e.flow.AttemptEnded(res, w.now)
}

// placeBatch lets the placing goroutine do its work once. While nothing becomes durable it waits.
func (w *world) placeBatch() {
	if w.e.desk.Waiting() == 0 || w.store.full {
		return
	}
	w.e.desk.Now(context.Background(), w.placed)
	if !w.calm && w.r.IntN(6) == 0 {
		w.say("crash, just when files were placed")
		panic(crashed{})
	}
}

// placed tells the flow what came of placings.
func (w *world) placed(ends []turn.PlacingEnd) {
	for _, end := range ends {
		for _, m := range end.Moved {
			w.say("moved %s to %q: %v", filepath.Base(m.Source), m.Target, m.Err)
			delete(w.changed, m.Target)
		}
		w.e.flow.PlacedEnd(end, w.now)
	}
}

// quiet lets everything come to its end, without faults and crashes.
func (w *world) quiet() {
	w.protected(func() { panic(crashed{}) }) // and once more from what is durable
	w.faults, w.far, w.crashIn, w.calm = false, false, 0, true
	w.store.refuse(w.t, false)
	w.usePool(turn.Pool{Places: 2})
	w.resume()
	if len(w.rules.All()) < len(w.other.All()) {
		w.reload()
	}
	if w.absent {
		w.takeAway()
	}
	for path, open := range w.writing {
		if _, err := os.Lstat(path); err == nil && open {
			w.grow(path)
		}
	}
	turn := func(span time.Duration) {
		w.now = w.now.Add(span)
		w.protected(func() {
			w.pump()
			w.endAttempt()
			w.placeBatch()
			_ = w.store.Sync(context.Background())
		})
	}
	for n, idle := 0, 0; n < 400 && idle < 10; n++ { // a start is idle, too
		idle++
		turn(2 * time.Second)
		if _, more := w.e.flow.Wake(w.now); more || len(w.running)+w.e.desk.Waiting() > 0 ||
			len(w.dirty)+len(w.late)+len(w.reads)+len(w.answers)+len(w.apart)+len(w.brings) > 0 {
			idle = 0
		}
	}
	w.nothingWaits()
	jobs := w.jobCount()
	w.protected(func() { panic(crashed{}) }) // the memory of files that stay is in the ledger
	for range 50 {
		turn(10 * time.Second)
	}
	if more := w.jobCount() - jobs; more > 0 {
		w.fail("%d jobs began though nothing had changed", more)
	}
}

// nothingWaits checks that the watcher needs no new start to come to the end of its queue.
func (w *world) nothingWaits() {
	jobs, err := w.store.Jobs(job.Filter{})
	if err != nil {
		w.t.Fatal(err)
	}
	for _, j := range jobs {
		if !j.State.Final() {
			w.fail("job %d of %s waits for the next start: %s", j.ID, filepath.Base(j.File), j.State)
		}
	}
}

// jobCount is how many jobs there have been, but for groups: one that is not complete waits
// anew after a crash.
func (w *world) jobCount() (n int) {
	jobs, err := w.store.Jobs(job.Filter{})
	if err != nil {
		w.t.Fatal(err)
	}
	for _, j := range jobs {
		if j.Rule != "set" {
			n++
		}
	}
	return n
}
