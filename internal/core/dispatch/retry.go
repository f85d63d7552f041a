package dispatch

import "time"

// Retry says when a failed job is tried again.
type Retry struct {
	Times   int           // attempts after the first
	First   time.Duration // wait before the second attempt
	Factor  float64       // each wait is this many times the one before
	Longest time.Duration // no wait is longer; 0 for no bound
	Jitter  float64       // part of the wait that is left to chance
	NeverOn []int         // exit codes that are not worth another attempt
}

// Again says whether another attempt follows the one with this number
// (counted from 1) that ended with this exit code, and how long to wait.
// chance is a number from 0 to 1.
func (r Retry) Again(attempt, exit int, chance float64) (wait time.Duration, again bool) {
	if attempt > r.Times {
		return 0, false
	}
	for _, never := range r.NeverOn {
		if exit == never {
			return 0, false
		}
	}
	w := float64(r.First)
	for range attempt - 1 {
		w *= r.Factor
		if r.Longest > 0 && w > float64(r.Longest) {
			break
		}
	}
	w *= 1 + r.Jitter*(2*chance-1)
	if r.Longest > 0 {
		w = min(w, float64(r.Longest))
	}
	return time.Duration(w), true
}
