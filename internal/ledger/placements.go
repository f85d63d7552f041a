package ledger

import (
	"database/sql"
	"path/filepath"
	"slices"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
)

// Placements lists a job's placements, oldest first.
func (l *Ledger) Placements(job int64) ([]job.Placement, error) {
	return l.placements(`job = ?`, job)
}

// Reverting lists the placements whose undoing by hand was cut short, newest first.
func (l *Ledger) Reverting() ([]job.Placement, error) {
	list, err := l.placements(`state = 'reverting'`)
	slices.Reverse(list)
	return list, err
}

// PuttingBack lists the moves that send inputs of jobs that are over back, and were
// cut short.
func (l *Ledger) PuttingBack() ([]job.Placement, error) {
	return l.placements(`state = 'intended' AND final_state = 'queued'`)
}

// PlacedBy returns the newest placement that a rule made at a path.
func (l *Ledger) PlacedBy(rule, target string) (job.Placement, bool, error) {
	list, err := l.placements(`target = ? AND chained = 1 AND state = 'done' AND (SELECT rule FROM job WHERE job.id = placement.job) = ?`, target, l.inTables(rule))
	if err != nil || len(list) == 0 {
		return job.Placement{}, false, err
	}
	return list[len(list)-1], true, nil
}

// Result is what a step of a rule has made of a file, and has last put somewhere.
type Result struct {
	Input, Target string
	After         file.Facts
	Over          bool // it was taken back, or a later step put something else there
}

// Results lists what a rule has made of files below a folder, and what of it is over.
func (l *Ledger) Results(rule, folder string) ([]Result, error) {
	l.settle()
	rows, err := l.db.Query(`SELECT j.file, p.target, after_size, after_mtime, p.state = 'undone' OR kind <> 'put'
		FROM placement p JOIN job j ON j.id = p.job WHERE j.rule = ? AND j.file >= ? AND j.file < ? AND
		kind IN ('put', 'linked', 'moved') AND p.state IN ('done', 'undone') AND final_state = '' ORDER BY p.id`,
		l.inTables(rule), folder+"/", folder+"0")
	if err != nil {
		return nil, l.damaged(err)
	}
	defer rows.Close()
	newest := map[string]int{}
	var list []Result
	for rows.Next() {
		var r Result
		var mod int64
		if err := rows.Scan(&r.Input, &r.Target, &r.After.Size, &mod, &r.Over); err != nil {
			return nil, l.damaged(err)
		}
		r.After.Mod = file.Time(mod)
		if at, again := newest[r.Target]; again {
			list[at] = r
			continue
		}
		newest[r.Target] = len(list)
		list = append(list, r)
	}
	return list, rows.Err()
}

// Reliers lists the placements of other jobs that removed a file because its content
// was at a target already, and are not taken back.
func (l *Ledger) Reliers(target string, job int64) ([]job.Placement, error) {
	return l.placements(`target = ? AND kind = 'duplicate' AND state IN ('intended', 'done') AND job <> ?`, target,
		job)
}

// PlacedAt lists what was placed at a path where a rule may take it, and not taken back.
func (l *Ledger) PlacedAt(target string) ([]job.Placement, error) {
	return l.placements(`target = ? AND chained = 1 AND state = 'done'`, target)
}

// TakenBack reports whether something that a job had placed at a path, or below it, was
// taken back.
func (l *Ledger) TakenBack(path string) (bool, error) {
	const after = string(filepath.Separator + 1) // what sorts behind all that lies below
	list, err := l.placements(`chained = 1 AND state = 'undone' AND (target = ? OR target > ? AND target < ?)`,
		path, path+string(filepath.Separator), path+after)
	return len(list) > 0, err
}

// PlacedBelow names the rules whose steps have put files into a folder that a rule
// watches, or below it, one by one; a folder that was placed as a whole is none. ends tells
// whether there are inputs of jobs whose steps have put nothing there.
func (l *Ledger) PlacedBelow(folder string) (rules []string, ends bool, err error) {
	l.mu.Lock()
	recent := len(l.chained) > 0
	l.mu.Unlock()
	if recent {
		l.settle()
	}
	rows, err := l.db.Query(`SELECT DISTINCT (SELECT rule FROM job WHERE id = made.job), steps FROM (
		SELECT job, max(final_state = '') AS steps FROM placement
		WHERE target >= ? AND target < ? AND chained = 1 AND state IN ('intended', 'done') GROUP BY job) AS made`,
		folder+"/", folder+"0")
	if err != nil {
		return nil, false, l.damaged(err)
	}
	defer rows.Close()
	for rows.Next() {
		var name sql.NullString
		var steps bool
		if err := rows.Scan(&name, &steps); err != nil {
			return nil, false, l.damaged(err)
		}
		if ends = ends || !steps; steps {
			rules = append(rules, l.shown(name.String))
		}
	}
	return rules, ends, rows.Err()
}

func (l *Ledger) placements(where string, args ...any) ([]job.Placement, error) {
	l.settle()
	rows, err := l.db.Query(`SELECT id, job, source, target, dev, ino, size, mtime, ctime, state, final_state, attempt, kind, is_folder, after_dev, after_ino, after_size, after_mtime, replaced, kept, chained, mode, made
		FROM placement WHERE `+where+` ORDER BY id`, args...)
	if err != nil {
		return nil, l.damaged(err)
	}
	defer rows.Close()
	var list []job.Placement
	for rows.Next() {
		var p job.Placement
		var dir bool
		var mode uint32
		var before, after struct{ dev, ino, size, mod, change int64 }
		if err := rows.Scan(&p.ID, &p.Job, &p.Source, &p.Target, &before.dev, &before.ino, &before.size,
			&before.mod, &before.change, &p.State, &p.FinalState,
			&p.Attempt, &p.Kind, &dir, &after.dev, &after.ino, &after.size, &after.mod, &p.Replaced, &p.Kept,
			&p.Chained, &mode, &p.Made); err != nil {
			return nil, l.damaged(err)
		}
		p.Facts = file.Facts{Exists: true, Dir: dir, Regular: !dir, Mode: mode, Size: before.size,
			Mod: file.Time(before.mod), Change: file.Time(before.change), Dev: uint64(before.dev),
			Ino: uint64(before.ino)}
		p.After = file.Facts{Exists: true, Dir: dir, Regular: !dir, Size: after.size, Mod: file.Time(after.mod),
			Dev: uint64(after.dev), Ino: uint64(after.ino)}
		list = append(list, p)
	}
	return list, rows.Err()
}
