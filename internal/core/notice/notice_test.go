package notice

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

var noon = time.Date(2031, 4, 2, 12, 0, 0, 0, time.UTC)

func TestAThousandEventsMakeOneMessage(t *testing.T) {
	var g Gatherer
	for i := range 1000 {
		e := Event{Kind: Processed, Rule: "slips", File: fmt.Sprintf("/in/slip-%d.txt", i), Job: int64(i + 1),
			At: noon.Add(time.Duration(i) * time.Millisecond)}
		if i == 700 {
			e.Kind, e.Text = Failed, "exit code 3: line 7 is bad"
		}
		g.Add("office", 10*time.Second, e)
	}
	require.Empty(t, g.Due(noon.Add(9*time.Second)))
	next, ok := g.Next()
	require.True(t, ok)
	require.Equal(t, noon.Add(10*time.Second), next)
	due := g.Due(next)
	require.Len(t, due, 1)
	m := due[0]
	require.Equal(t, "slips: 1 failed, 999 processed", m.Title)
	require.Equal(t, map[Kind]int{Failed: 1, Processed: 999}, m.Counts)
	require.Regexp(t,
		`^slips: /in/slip-700.txt failed \(job 701\): exit code 3: line 7 is bad\n  the file is no longer there\n`,
		m.Text)
	require.Regexp(t, `\nand 980 more; stilltide jobs lists them$`, m.Text)
	require.Empty(t, g.All(next), "it is told once")
}

func TestTitles(t *testing.T) {
	for _, c := range []struct {
		events []Event
		title  string
	}{
		{[]Event{{Kind: Failed, Rule: "gauge", File: "/in/a.csv"}}, "gauge: a.csv failed"},
		{[]Event{{Kind: Unmatched, File: "/in/odd.bin"}}, "no rule took odd.bin"},
		{[]Event{{Kind: CaughtUp, Rule: "slips", Jobs: 20, Text: "20 processed, in 3 s"}}, "slips: 20 files done"},
		{[]Event{{Kind: Blocked, Text: "the ledger cannot be written"}}, "Still Tide needs a person"},
		{[]Event{{Kind: Blocked, Rule: "slips", Text: "it loops"}}, "slips is blocked"},
		{[]Event{{Kind: Recovered, Text: "the ledger can be written again"}}, "Still Tide has recovered"},
		{[]Event{{Kind: Told, Rule: "slips", File: "/in/a", Text: "look at this\nand that"}},
			"slips: look at this"},
		{[]Event{{Kind: Processed, Rule: "a", File: "/x"}, {Kind: Failed, Rule: "b", File: "/y"},
			{Kind: Failed, Rule: "b", File: "/z"}}, "2 failed, 1 processed"},
		{[]Event{{Kind: Failed, Rule: "gauge", File: "/in/a\x1b[2J.csv"}}, `gauge: $'a\033[2J.csv' failed`},
	} {
		var g Gatherer
		for _, e := range c.events {
			e.At = noon
			g.Add("x", 0, e)
		}
		require.Equal(t, c.title, g.Due(noon)[0].Title)
	}
}

// Whatever comes, each event is counted in exactly one message of its channel,
// and between two messages of a channel lies at least the gathering time.
func TestNothingIsLostAndNothingIsPushy(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var g Gatherer
		now, told, sent := noon, 0, map[string]time.Time{}
		counted := 0
		count := func(messages []Message) {
			for _, m := range messages {
				for _, n := range m.Counts {
					counted += n
				}
			}
		}
		for range rapid.IntRange(1, 60).Draw(t, "steps") {
			now = now.Add(time.Duration(rapid.IntRange(0, 4000).Draw(t, "ms")) * time.Millisecond)
			if rapid.Bool().Draw(t, "event") {
				told++
				g.Add(rapid.SampledFrom([]string{"a", "b"}).Draw(t, "channel"), 5*time.Second,
					Event{Kind: rapid.SampledFrom(kinds).Draw(t, "kind"), At: now})
				continue
			}
			due := g.Due(now)
			for _, m := range due {
				if last, ok := sent[m.Channel]; ok && now.Sub(last) < 5*time.Second {
					t.Fatalf("%s was sent %s after the last", m.Channel, now.Sub(last))
				}
				sent[m.Channel] = now
			}
			count(due)
		}
		count(g.All(now))
		if counted != told {
			t.Fatalf("%d events were told, %d counted", told, counted)
		}
	})
}

// The same failure again and again is told less and less often, at last once an hour, each time
// with how many there were; another failure is told at once; after a while it is news again.
func TestTheSameFailureIsToldLessAndLess(t *testing.T) {
	var g Gatherer
	now, told, counted := noon, []time.Duration{}, 0
	fails := func(reason string) {
		g.Add("duty", 0, Event{Kind: Failed, Rule: "gauge", File: fmt.Sprintf("/in/%d.csv", now.Unix()), Text: reason,
			At: now})
	}
	for ; now.Sub(noon) < 6*time.Hour; now = now.Add(10 * time.Second) {
		fails("exit code 1: the server does not answer")
		for _, m := range g.Due(now) {
			told, counted = append(told, now.Sub(noon)), counted+m.Counts[Failed]
		}
	}
	require.Equal(t, []time.Duration{0, 60e9, 180e9, 420e9, 900e9, 1860e9, 3780e9, 7380e9, 10980e9, 14580e9, 18180e9},
		told)
	fails("exit code 2: the disk is full")
	due := g.Due(now)
	require.Len(t, due, 1)
	require.Equal(t, "gauge: "+fmt.Sprint(now.Unix())+".csv failed", due[0].Title)
	now = now.Add(30 * time.Minute)
	rest := g.All(now)
	require.Len(t, rest, 1)
	counted += rest[0].Counts[Failed]
	require.Equal(t, 6*360, counted, "each is counted")
	require.Regexp(t, `^gauge: \d+ files failed alike$`, rest[0].Title)
	require.Regexp(t, `; \d+ more failed alike since \d\d:\d\d:\d\d`, rest[0].Text)

	now = now.Add(3 * time.Hour)
	fails("exit code 1: the server does not answer")
	require.Len(t, g.Due(now), 1, "after a while it is news again")
}

// A failure's notice says where the file is, what was printed last, and how to go on.
func TestAFailureIsToldWhole(t *testing.T) {
	m := Compose(Message{Counts: map[Kind]int{Failed: 1}, Machine: "kelder-1", Rules: "/srv/kelder/stilltide.yaml",
		Events: []Event{{Kind: Failed, Rule: "gauge", File: "/in/a.csv", FileNow: "/failed/a.csv", Job: 4,
			Text:    "exit code 65",
			Printed: []string{"line 87 is short", "line 88 is bad"}, Next: "stilltide retry 4"}}})
	require.Equal(t, "gauge: a.csv failed", m.Title)
	require.Equal(t, `gauge: /in/a.csv failed (job 4): exit code 65
  it is in /failed now, with a note beside it
  printed last: line 87 is short
                line 88 is bad
  to send it round again: stilltide retry 4

Rules: /srv/kelder/stilltide.yaml on kelder-1`, m.Text)
	m.Events[0].Said = "a.csv: please have a look"
	m = Compose(m)
	require.Equal(t, "a.csv: please have a look", m.Title)
	require.Equal(t, "a.csv: please have a look\n\nRules: /srv/kelder/stilltide.yaml on kelder-1", m.Text)
}
