//go:build linux

package laws

// The law of word and deed: what preview and why say is what a sweep does.

import (
	"fmt"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"stilltide/internal/advice"
	"stilltide/internal/byhand"
	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/core/rule"
	"stilltide/internal/ledger"
	"stilltide/internal/look"
)

// preview asks what a sweep would do.
func preview(w *world) (list []advice.Foreseen, err error) {
	f, err := w.parsed(w.text())
	if err != nil {
		return nil, err
	}
	set, now := look.NewSet(f), time.Now()
	l, err := ledger.Read(f.StateFolder())
	if err == nil {
		defer l.Close()
		err = l.UseNames(f.Renamed())
	}
	if err != nil && err != ledger.ErrNone {
		return nil, err
	}
	if err = advice.Preview(set, l, nil, now,
		func(one advice.Foreseen) { list = append(list, one) }); err != nil {
		return nil, err
	}
	asked, taken := map[string]bool{}, map[string]bool{}
	for _, one := range list { // why says the same of each file; of several rules that share one, of the first
		over := taken[one.File] // by then it is another file, which a job has put in its place
		if taken[one.FileAfter] = true; one.Stage > 0 || asked[one.File] || over {
			continue
		}
		asked[one.File] = true
		if w.has("unit: folder") || w.has("repair: true") && isMade(l, f, one.File) {
			continue // whether a folder is one's unit, or another's place, or a result an input, is a race here
		}
		why, err := advice.Explain(set, l, one.File, false, now)
		if err != nil {
			return nil, err
		}
		if why.Taker == nil && w.has("same_name: replace", "mirror: ") {
			continue // a step would have replaced it by what is taken
		}
		if why.Taker != one.Rule || why.FileAfter != one.FileAfter || why.Thrown != one.Thrown ||
			(why.Problem != "") != (one.Fails != "") ||
			why.Taker != nil && one.Job == nil && why.Ready != (one.NotYet == "") && !holdsStill(why) {
			return nil, fmt.Errorf("of %q preview says %v, in %q, %q %q, and why says %v, in %q, %q %q", one.File,
				one.Rule != nil, one.FileAfter, one.Fails, one.NotYet, why.Taker != nil, why.FileAfter, why.Problem,
				why.NotYet)
		}
	}
	return list, nil
}

// takesResults reports whether a result that is kept repaired is an input as well: which comes first is a race.
func (r *run) takesResults() bool {
	f, err := r.w.parsed(r.w.text())
	if err != nil || !r.w.has("repair: true") {
		return false
	}
	l, err := ledger.Read(f.StateFolder())
	if err != nil {
		return false
	}
	defer l.Close()
	return slices.ContainsFunc(r.jobs, func(j job.Job) bool { return isMade(l, f, j.File) })
}

// isMade reports whether a file is what a rule has made: one that repairs may make it again before it is taken.
func isMade(l *ledger.Ledger, f *rule.File, path string) bool {
	return l != nil && slices.ContainsFunc(f.All(), func(r *rule.Rule) bool {
		return byhand.MadeFrom(l, r.Name.S, path) != ""
	})
}

// holdsStill reports whether a file will be ready by itself in a moment: for that a sweep waits, and preview says
// what comes of it.
func holdsStill(why advice.Why) bool { return strings.HasSuffix(why.NotYet, "so it must hold still") }

// wordAndDeed: what preview foretold is what the sweep did, for each file and rule. What
// a command decides, and a group that may not be complete, is left out.
func wordAndDeed(_ *testing.T, r *run) string {
	if r.w.has("age:", "loops: allow", "order:", "schedule:") || r.w.commands() {
		return ""
	}
	type key struct{ file, rule string }
	did := map[key]string{}
	for _, j := range r.jobs {
		if strings.Contains(j.Reason, "ended with exit code") || strings.Contains(j.Reason, "from: there is no") ||
			strings.Contains(j.Reason, job.ErrGone.Error()) || r.w.has(", from:") && j.State == job.Failed ||
			strings.Contains(j.Reason, "; not undone: ") {
			return "" // a command decided, or another job was quicker with a file that no job takes
		}
		if j.Event == file.Removed && r.w.has(", from:") {
			return "" // what it has placed is another rule's now
		}
		if j.State == job.Vanished || j.Event == file.Removed {
			continue // another job took it away; nothing is said of files that are not there
		}
		if r.w.has(", from:") && j.State == job.Processed && j.FileNow == "" {
			return "" // the same, between a job's last step and its placing
		}
		end := r.rel(j.FileNow)
		if strings.HasPrefix(end, trashOf(r.w.dir)) {
			end = "to the trash"
		}
		failed := j.State == job.Failed
		did[key{j.File, j.Rule}] = skipped(!failed && strings.Contains(j.Reason, "same content was handled")) +
			r.outcome(failed, end)
		for _, m := range j.Extra {
			if !m.Companion {
				did[key{m.File, j.Rule}] = r.outcome(failed, r.rel(m.FileNow))
			}
		}
	}
	if r.foldersRace() || r.chainFreesNames() || r.mayRenew() || r.takesResults() {
		return ""
	}
	said, goesOn := map[key]string{}, map[key]bool{}
	for _, f := range r.foreseen {
		if f.Stage > 0 && r.w.has("max_wait:") {
			return "" // whether it is over when the sweep is depends on how long that takes
		}
		if f.Rule != nil && f.Job != nil && r.w.has("again_on:") {
			goesOn[key{f.File, f.Rule.Name.S}] = true // and may be handled again then
		}
		if f.Rule == nil || f.NotYet != "" || f.Job != nil || f.First != nil && r.hasFailed(f.First.Job) {
			continue // it waits, or goes on, or comes of one that has not come to its end
		}
		if f.Open || f.Doubt && f.Fails == "" {
			return ""
		}
		end := r.rel(f.FileAfter)
		switch {
		case f.Thrown == "deleted":
			end = ""
		case f.Thrown != "":
			end = f.Thrown
		case end == "":
			end = r.rel(f.File)
		}
		said[key{f.File, f.Rule.Name.S}] = skipped(f.Skipped && f.Fails == "") + r.outcome(f.Fails != "", end)
	}
	owed := map[key]bool{}
	for _, j := range r.jobs {
		owed[key{j.File, j.Rule}] = owed[key{j.File, j.Rule}] || r.isOwed(j)
	}
	var b strings.Builder
	for k, v := range said {
		if did[k] != v && !owed[k] {
			fmt.Fprintf(&b, "of %q and %s was said %q, and done was %q\n", r.rel(k.file), k.rule, v, did[k])
		}
	}
	for k, v := range did {
		if _, ok := said[k]; !ok && !goesOn[k] {
			fmt.Fprintf(&b, "of %q and %s nothing was said, and done was %q\n", r.rel(k.file), k.rule, v)
		}
	}
	return b.String()
}

// hasFailed reports whether a job of before, which went on in this sweep, has not ended well; nil is none.
func (r *run) hasFailed(j *job.Job) bool {
	return j != nil && slices.ContainsFunc(r.all, func(now job.Job) bool {
		return now.ID == j.ID && now.State != job.Processed
	})
}

// mayRenew reports whether the sweep has changed files of again_on itself: for them all is handled again.
func (r *run) mayRenew() bool {
	f, err := r.w.parsed(r.w.text())
	if err != nil || !r.w.has("again_on:") {
		return false
	}
	isSetting := func(path string) bool {
		return slices.ContainsFunc(f.All(), func(one *rule.Rule) bool {
			return one.HandlesAgainOn(filepath.Join(r.w.dir, path))
		})
	}
	for _, all := range []tree{r.before, r.after} {
		for path := range all {
			if r.before[path] != r.after[path] && isSetting(path) {
				return true
			}
		}
	}
	return false
}

func skipped(is bool) string {
	if is {
		return "skipped "
	}
	return ""
}

// foldersRace reports whether one job takes a folder whole that another works in or places
// into: who comes first decides then.
func (r *run) foldersRace() bool {
	var units []string
	for _, j := range r.jobs {
		if j.Facts.Dir {
			units = append(units, j.File)
		}
		if _, was := r.before[r.rel(j.File)]; j.Facts.Dir && !was {
			return true // it was made for what another job placed
		}
	}
	for _, f := range r.foreseen {
		if f.Rule != nil && f.Rule.Folded() {
			units = append(units, f.File)
		}
	}
	for _, unit := range units {
		for path := range r.after {
			if _, was := r.before[path]; !was && strings.HasPrefix(path, r.rel(unit)+"/") {
				return true
			}
		}
		for _, j := range r.jobs {
			if strings.HasPrefix(j.FileNow, unit+"/") || strings.HasPrefix(j.File, unit+"/") {
				return true
			}
		}
	}
	return false
}

// chainFreesNames reports whether a later stage may take a file away whose name another job
// wants: that job gets the name, or a number, as it happens.
func (r *run) chainFreesNames() bool {
	chain := slices.ContainsFunc(r.foreseen, func(f advice.Foreseen) bool { return f.Stage > 0 })
	return chain && slices.ContainsFunc(r.foreseen, func(f advice.Foreseen) bool { return len(f.Clashes) > 0 })
}

// outcome is how a job ended, in a word. In failed folders numbers go in the order in which
// jobs fail, so that a name is not kept free for a job that then succeeds. Two jobs at once
// may meet where a step places a file that goes on from there, or where one that fails has
// held a name meanwhile. Folders are ready in no order.
func (r *run) outcome(failed bool, end string) string {
	if failed && r.w.has("workers: 2") && r.w.has("same_name: skip") {
		return "failed true" // who fails first has the name, and the others stay
	}
	meet := r.w.has("workers: 2", "far") && (r.someFail() || r.w.has("{rename: ", "{move: ") && r.w.has("processed: "))
	if meet && r.w.has("same_name: fail", "same_name: skip") {
		return "" // a job whose step met another one's file has a number, and goes where that is free
	}
	if failed || meet || r.w.has("unit: folder") {
		parts := strings.Split(end, "/") // a folder may be named after the file
		for i := range parts {
			parts[i] = numberEnd.ReplaceAllString(parts[i], "$1")
		}
		end = strings.Join(parts, "/")
	}
	return fmt.Sprintf("failed %v, %s", failed, end)
}

func (r *run) someFail() bool {
	return slices.ContainsFunc(r.foreseen, func(f advice.Foreseen) bool { return f.Fails != "" }) ||
		slices.ContainsFunc(r.jobs, func(j job.Job) bool { return j.State == job.Failed })
}

var numberEnd = regexp.MustCompile(`(?:-\d+)+((\.[^./]*)?)$`) // of a step, and of the end
