package watchfs

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"
)

// slowSieve keeps files quiet whose names end so, and takes its time for each entry.
type slowSieve struct {
	quiet  string
	pace   func() time.Duration
	silent bool // nothing is answered before all is looked at

	mu     sync.Mutex
	opened []*os.File
}

func (s *slowSieve) Quiet(d *os.File, entries []Entry, quiet []bool, answered func()) {
	s.mu.Lock()
	s.opened = append(s.opened, d)
	s.mu.Unlock()
	for i, e := range entries {
		time.Sleep(s.pace())
		if !s.silent {
			answered()
		}
		quiet[i] = strings.HasSuffix(e.Name(), s.quiet)
	}
}

// sweepThrough sweeps a folder once through a sieve. Time is that of a test's bubble.
func sweepThrough(t *testing.T, dir string, sieve Sieve) (events []Event) {
	w, err := New(Options{Once: true, Sift: func(string) Sieve { return sieve }})
	require.NoError(t, err)
	defer w.Close()
	w.Want(map[string]int{dir: Deepest})
	for {
		for _, e := range <-w.Events() {
			events = append(events, e)
			if e.Kind == Swept {
				return events
			}
		}
	}
}

// randomTree makes folders with none, few and many files.
func randomTree(t *testing.T, r *rand.Rand, dir string, deep int) (files int) {
	require.NoError(t, os.MkdirAll(dir, 0o777))
	for i := range []int{0, 3, leastBeside + 20}[r.IntN(3)] {
		name := fmt.Sprintf("gauge-%03d%s", i, []string{".csv", ".known"}[r.IntN(2)])
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), nil, 0o666))
		files++
	}
	for i := range r.IntN(4) {
		if deep > 0 {
			files += randomTree(t, r, filepath.Join(dir, fmt.Sprint("part-", i)), deep-1)
		}
	}
	return files
}

// Parts of folders go through a sieve beside each other, by turns faster and slower. What is told
// is what would be told without it, but for what it keeps quiet, in the same order, and the end of
// the sweep last; and every folder is closed.
func TestASieveChangesNoOrder(t *testing.T) {
	for seed := range uint64(40) {
		r := rand.New(rand.NewPCG(seed, 5))
		dir := t.TempDir()
		files := randomTree(t, r, dir, 3)
		synctest.Test(t, func(t *testing.T) {
			var plain []string
			for _, e := range sweepThrough(t, dir, nil) {
				if !strings.HasSuffix(e.Path, ".known") {
					plain = append(plain, fmt.Sprint(e.Kind, e.Path))
				}
			}
			var mu sync.Mutex
			sieve := &slowSieve{quiet: ".known", pace: func() time.Duration {
				mu.Lock()
				defer mu.Unlock()
				return time.Duration(r.IntN(3)) * time.Millisecond
			}}
			var told []string
			for _, e := range sweepThrough(t, dir, sieve) {
				told = append(told, fmt.Sprint(e.Kind, e.Path))
			}
			require.Equal(t, plain, told, "world %d with %d files", seed, files)
			for _, d := range sieve.opened {
				_, err := d.Stat()
				require.ErrorIs(t, err, os.ErrClosed, "world %d: %s", seed, d.Name())
			}
		})
	}
}

// A file system that takes long for each of many files answers all the while: it is not taken for
// one that does not answer.
func TestASlowFileSystemIsNotSilent(t *testing.T) {
	for _, files := range []int{leastBeside - 1, 4 * leastBeside} {
		dir := t.TempDir()
		for i := range files {
			require.NoError(t, os.WriteFile(filepath.Join(dir, fmt.Sprintf("gauge-%03d.csv", i)), nil, 0o666))
		}
		synctest.Test(t, func(t *testing.T) {
			begun := time.Now()
			pace := func() time.Duration { return longSilent / leastBeside * 2 }
			for _, e := range sweepThrough(t, dir, &slowSieve{pace: pace, quiet: ".known"}) {
				require.NotContains(t, []Kind{Absent, Trouble}, e.Kind, "%d files", files)
			}
			require.Greater(t, time.Since(begun), longSilent)
			events := sweepThrough(t, dir, &slowSieve{pace: pace, quiet: ".known", silent: true})
			require.Equal(t, Absent, events[len(events)-2].Kind, "%d files, and no answer", files)
			require.ErrorIs(t, events[len(events)-1].Err, ErrSilent)
			time.Sleep(time.Hour) // the sieve ends at last
		})
	}
}
