package history

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

var monday = time.Date(2031, 3, 31, 9, 0, 0, 0, time.UTC)

func TestFiguresAgainstASlowModel(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s := New(monday, monday.Add(time.Duration(rapid.IntRange(1, 400).Draw(t, "hours"))*time.Hour))
		var waits, rans []float64
		count := map[string]int{}
		for range rapid.IntRange(0, 200).Draw(t, "jobs") {
			ended := monday.Add(time.Duration(rapid.IntRange(-10, 500).Draw(t, "at")) * time.Hour)
			ran := time.Duration(rapid.IntRange(0, 900).Draw(t, "ran")) * time.Second
			wait := time.Duration(rapid.IntRange(0, 900).Draw(t, "wait")) * time.Second
			j := Job{Rule: rapid.SampledFrom([]string{"a", "b"}).Draw(t, "rule"),
				Outcome: rapid.SampledFrom(Outcomes).Draw(t, "outcome"),
				Taken:   ended.Add(-ran - wait), Started: ended.Add(-ran), Ended: ended, Ran: ran}
			s.Add(j)
			if ended.Before(s.From) || ended.After(s.To) {
				continue
			}
			count[j.Outcome]++
			waits, rans = append(waits, wait.Seconds()), append(rans, ran.Seconds())
		}
		inBuckets := map[string]int{}
		for i, b := range s.Buckets {
			for o, n := range b.Count {
				inBuckets[o] += n
			}
			if i > 0 && !b.Start.After(s.Buckets[i-1].Start) {
				t.Fatalf("bucket %d does not begin after the one before", i)
			}
		}
		if fmt.Sprint(inBuckets) != fmt.Sprint(count) || s.Total.Jobs() != len(waits) ||
			len(s.Buckets) > maxBuckets+2 {
			t.Fatalf("counted %v in %d buckets, want %v", inBuckets, len(s.Buckets), count)
		}
		check := func(got Spread, times []float64) {
			slices.Sort(times)
			for share, v := range map[float64]float64{0.5: got.Median, 0.95: got.P95} {
				below := 0
				for _, x := range times {
					if x <= v {
						below++
					}
				}
				if len(times) > 0 && (float64(below) < share*float64(len(times)) || !slices.Contains(times, v)) {
					t.Fatalf("%v of %v is not %v", share, times, v)
				}
			}
		}
		check(s.Total.Waited(), waits)
		check(s.Total.Ran(), rans)
	})
}

func TestFailuresThatAreAlikeAreOneGroup(t *testing.T) {
	s := New(monday, monday.Add(24*time.Hour))
	for i := range 5 {
		name := fmt.Sprintf("/in/gauge-%d.csv", i)
		s.Add(Job{ID: int64(i), Rule: "gauge", File: name, Outcome: "failed",
			Reason: fmt.Sprintf("exit code 3: gauge-%d.csv: line %d says -99.%d", i, i+10, i),
			Ended:  monday.Add(time.Duration(i) * time.Hour)})
	}
	s.Add(Job{ID: 9, Rule: "slips", File: "/in/x", Outcome: "failed", Reason: "it took longer than 2 m",
		Ended: monday})
	reasons := s.Reasons()
	require.Len(t, reasons, 2)
	require.Equal(t, 5, reasons[0].Count)
	require.Equal(t, "exit code 3: gauge-4.csv: line 14 says -99.4", reasons[0].Text, "as the last one said it")
}

func TestTheSlowestAreKept(t *testing.T) {
	s := New(monday, monday.Add(24*time.Hour))
	order := rand.New(rand.NewPCG(1, 2)).Perm(100)
	for _, i := range order {
		s.Add(Job{ID: int64(i), Rule: "r", Outcome: "processed", Started: monday, Ended: monday,
			Ran: time.Duration(i) * time.Second})
	}
	require.Len(t, s.Slowest, maxSlow)
	for i, j := range s.Slowest {
		require.Equal(t, int64(99-i), j.ID)
	}
}

// Days begin at midnight of the place, also where clocks change.
func TestDaysBeginAtMidnight(t *testing.T) {
	zone, err := time.LoadLocation("Europe/Berlin")
	require.NoError(t, err)
	s := New(time.Date(2031, 3, 1, 8, 0, 0, 0, zone), time.Date(2031, 4, 20, 8, 0, 0, 0, zone))
	require.Equal(t, 24*time.Hour, s.Step)
	for _, b := range s.Buckets {
		require.Equal(t, 0, b.Start.Hour())
	}
	require.Len(t, s.Buckets, 51)
}
