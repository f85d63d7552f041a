package settle

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"stilltide/internal/core/file"
)

var start = time.Date(2031, 4, 2, 0, 0, 0, 0, time.UTC)

func at(d time.Duration) time.Time { return start.Add(d) }

func facts(size int64, changed time.Duration, w file.Writers) file.Facts {
	return file.Facts{Exists: true, Regular: true, Size: size, Mod: file.At(at(changed)),
		Change: file.At(at(changed)), Ino: 7, Writers: w}
}

// ask moves the clock to the next look and checks when that is.
func ask(t *testing.T, m *Machine, want time.Duration) time.Time {
	t.Helper()
	next, ok := m.Next()
	require.True(t, ok)
	require.Equal(t, at(want), next.UTC())
	require.Equal(t, []string{"f"}, m.Asks(next))
	return next
}

func TestReadyAtOnceAfterClose(t *testing.T) {
	var m Machine
	p := Policy{Debounce: time.Second}
	m.Event("f", Created, p, at(0))
	ask(t, &m, time.Second)
	d := m.Answer("f", facts(10, 500*time.Millisecond, file.Some), at(time.Second))
	require.Equal(t, Wait, d.Verdict)
	require.Contains(t, d.Why, "open for writing")
	// The writer changed it last at 2 s and closes it a second later: ready at once.
	ask(t, &m, 2*time.Second)
	require.Equal(t, Wait, m.Answer("f", facts(50, 2*time.Second, file.Some), at(2*time.Second)).Verdict)
	m.Event("f", Closed, p, at(3*time.Second))
	now := ask(t, &m, 3*time.Second)
	require.Equal(t, Ready, m.Answer("f", facts(99, 2*time.Second, file.None), now).Verdict)
	require.Zero(t, m.Len())
}

func TestQuietTimeCountsFromLastChange(t *testing.T) {
	var m Machine
	m.Event("f", Closed, Policy{Debounce: 2 * time.Second}, at(5*time.Second))
	now := ask(t, &m, 5*time.Second)
	require.Equal(t, Wait, m.Answer("f", facts(1, 4*time.Second, file.None), now).Verdict)
	now = ask(t, &m, 6*time.Second)
	require.Equal(t, Ready, m.Answer("f", facts(1, 4*time.Second, file.None), now).Verdict)
}

func TestUnknownWritersMustHoldStill(t *testing.T) {
	var m Machine
	m.Event("f", Found, Policy{}, at(0))
	now := ask(t, &m, 0)
	d := m.Answer("f", facts(1, -time.Hour, file.Unknown), now)
	require.Equal(t, Wait, d.Verdict)
	require.Contains(t, d.Why, "cannot tell who writes")
	now = ask(t, &m, HoldStill)
	require.Equal(t, Wait, m.Answer("f", facts(2, -time.Hour, file.Unknown), now).Verdict, "it grew")
	now = ask(t, &m, 2*HoldStill)
	require.Equal(t, Ready, m.Answer("f", facts(2, -time.Hour, file.Unknown), now).Verdict)
}

func TestConditions(t *testing.T) {
	for name, tt := range map[string]struct {
		p    Policy
		f    file.Facts
		want Verdict
	}{
		"too small":       {Policy{MinSize: 5}, facts(4, -time.Hour, file.None), Wait},
		"large enough":    {Policy{MinSize: 5}, facts(5, -time.Hour, file.None), Ready},
		"no marker":       {Policy{Marker: true}, facts(4, -time.Hour, file.None), Wait},
		"writers ignored": {Policy{Ignore: true}, facts(4, -time.Hour, file.Some), Ready},
		"gone":            {Policy{}, file.Facts{}, Gone},
		"future ctime":    {Policy{}, facts(4, time.Hour, file.None), Ready},
		"waited too long": {Policy{Marker: true, MaxWait: time.Nanosecond, Overdue: OverdueFail},
			facts(4, -time.Hour, file.None), Give},
		"but still writes": {Policy{MaxWait: time.Nanosecond, Overdue: OverdueFail},
			facts(4, -time.Hour, file.Some), Late},
		"go all the same": {Policy{Marker: true, MaxWait: time.Nanosecond, Overdue: OverdueTake},
			facts(4, -time.Hour, file.None), Ready},
	} {
		t.Run(name, func(t *testing.T) {
			var m Machine
			m.Event("f", Found, tt.p, at(0))
			require.Equal(t, []string{"f"}, m.Asks(at(time.Second)))
			require.Equal(t, tt.want, m.Answer("f", tt.f, at(time.Second)).Verdict)
		})
	}
}

func TestUnreadyIsReportedOnceUntilItGrows(t *testing.T) {
	var m Machine
	m.Event("f", Found, Policy{MaxWait: 10 * time.Second, Overdue: OverdueWait}, at(0))
	reports, size := 0, int64(1)
	for i := 0; i < 40; i++ {
		next, ok := m.Next()
		require.True(t, ok)
		require.Equal(t, []string{"f"}, m.Asks(next))
		if next.After(at(60*time.Second)) && size == 1 {
			require.Equal(t, 1, reports, "once, however long it lasts")
			size = 2
		}
		if m.Answer("f", facts(size, 0, file.Some), next).Verdict == Late {
			reports++
		}
	}
	require.Equal(t, 2, reports, "once more after it grew")
}

// A random writer opens, writes, pauses, closes and sets attributes. Whatever
// it does, the file is never ready while it is open or before its quiet time
// is over, and it is ready at the first instant at which both are so.
func TestAgainstModel(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var m Machine
		debounce := time.Duration(rapid.IntRange(0, 3).Draw(t, "debounce")) * 500 * time.Millisecond
		p := Policy{Debounce: debounce}
		now, open, size, changed := start, false, int64(0), start
		var ready time.Time
		// run answers all looks up to a time and notes when the file was ready.
		run := func(to time.Time) {
			for {
				next, ok := m.Next()
				if !ok || next.After(to) {
					break
				}
				for range m.Asks(next) {
					w := file.None
					if open {
						w = file.Some
					}
					f := file.Facts{Exists: true, Regular: true, Size: size, Mod: file.At(changed),
						Change: file.At(changed), Ino: 1, Writers: w}
					if m.Answer("f", f, next).Verdict == Ready {
						if open || next.Sub(changed) < debounce {
							t.Fatalf("ready at %v: open %v, changed %v ago", next.Sub(start), open,
								next.Sub(changed))
						}
						ready = next
					}
				}
			}
			now = to
		}
		closed := now
		m.Event("f", Created, p, now)
		open = true
		for range rapid.IntRange(1, 12).Draw(t, "acts") {
			run(now.Add(time.Duration(rapid.IntRange(1, 2000).Draw(t, "pause")) * time.Millisecond))
			switch rapid.SampledFrom([]string{"write", "close", "reopen", "touch"}).Draw(t, "act") {
			case "write":
				if open {
					size, changed = size+1, now
				}
			case "close":
				if open {
					open, closed, ready = false, now, time.Time{}
					m.Event("f", Closed, p, now)
				}
			case "reopen":
				open = true
			case "touch": // attributes: the system says nothing, only ctime moves
				if m.Has("f") {
					changed = now
				}
			}
		}
		if open {
			open, closed, ready = false, now, time.Time{}
			m.Event("f", Closed, p, now)
		}
		run(now.Add(time.Hour))
		want := changed.Add(debounce)
		if want.Before(closed) {
			want = closed
		}
		if m.Has("f") || !ready.Equal(want) {
			t.Fatalf("ready at %v, wanted %v", ready.Sub(start), want.Sub(start))
		}
	})
}

// The close of a file is told an instant before its writer is counted out: a
// look in between must not cost a second.
func TestALeaseThatIsRefusedRightAfterTheClose(t *testing.T) {
	var m Machine
	begun := time.Date(2031, 4, 2, 9, 0, 0, 0, time.UTC)
	m.Event("f", Closed, Policy{}, begun)
	m.Asks(begun)
	busy := file.Facts{Exists: true, Regular: true, Writers: file.Some, Change: file.At(begun)}
	require.Equal(t, Wait, m.Answer("f", busy, begun).Verdict)
	next, ok := m.Next()
	require.True(t, ok)
	require.LessOrEqual(t, next.Sub(begun), 2*time.Millisecond)
	for range 20 { // one that stays open is looked at less and less often
		m.Asks(next)
		m.Answer("f", busy, next)
		last := next
		next, _ = m.Next()
		require.LessOrEqual(t, next.Sub(last), 30*time.Second)
	}
	require.Greater(t, next.Sub(begun), time.Minute)
}

// Files that came in one batch are asked for in the order in which they came.
func TestTheOrderOfArrivalIsKept(t *testing.T) {
	var m Machine
	at := time.Date(2031, 4, 2, 12, 0, 0, 0, time.UTC)
	var want []string
	for i := range 200 {
		path := fmt.Sprintf("/in/%d", i*7919%200)
		want = append(want, path)
		m.Event(path, Closed, Policy{}, at)
	}
	require.Equal(t, want, m.Asks(at))
}

// It is known for which rules files wait, whatever becomes of them.
func TestWaitsIsWhatAllLists(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	var m Machine
	now := time.Date(2031, 4, 2, 0, 0, 0, 0, time.UTC)
	for range 2000 {
		path := fmt.Sprint("f", r.IntN(20))
		switch r.IntN(3) {
		case 0:
			m.Forget(path)
		case 1:
			m.Answer(path, file.Facts{Exists: r.IntN(2) == 0, Writers: file.Writers(r.IntN(3))}, now)
		default:
			m.Event(path, Kind(r.IntN(6)), Policy{Rule: fmt.Sprint("r", r.IntN(3))}, now)
		}
		waits := map[string]bool{}
		for _, w := range m.All() {
			waits[w.Rule] = true
		}
		for i := range 3 {
			rule := fmt.Sprint("r", i)
			require.Equal(t, waits[rule], m.Waits(rule))
		}
		now = now.Add(time.Second)
	}
}
