//go:build linux

package laws

import (
	"archive/zip"
	"bytes"
	"crypto/sha256"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"stilltide/internal/core/notation"
	"stilltide/internal/core/rule"
	"stilltide/internal/standin/stick"
	"stilltide/internal/watchfs"
)

// world is a rules file and the files that it meets, drawn from a seed. Its parts
// are kept apart, so that a failing world can be made smaller part by part.
type world struct {
	seed  uint64
	rules []drawnRule
	files []drawnFile
	later []change     // after a first sweep
	first []drawnRule  // the rules of that sweep, nil for the same
	stick *stick.Lacks // what the other file system lacks, nil if that is one of this machine's
	dir   string       // where it stands now
}

// drawnRule is one rule, a line of YAML a key.
type drawnRule struct {
	name  string
	keys  []string
	steps []string
}

// drawnFile is a file, link or folder of the world.
type drawnFile struct {
	path, content string
	link          string // target of a symbolic link
	hard          string // the file it is a second name of
	mode          fs.FileMode
	age           time.Duration
}

// text is the rules file.
func (w *world) text() string { return textOf(w.rules, "0") }

func textOf(rules []drawnRule, retry string) string {
	var b strings.Builder
	workers := 2
	if strings.Contains(fmt.Sprint(rules), ", from:") {
		workers = 1 // which of two jobs gets a file that both take from elsewhere is nobody's promise
	}
	fmt.Fprintf(&b, "version: 1\ndefaults: {debounce: 0s, retry: %s}\nworkers: %d\nqueues: {slow: {workers: 1}, "+
		"quick: {priority: 3}}\nvars: {spot: out/spot, word: new}\n", retry, workers)
	if strings.Contains(fmt.Sprint(rules), "class") { // in some worlds, and the same in those that are smaller
		b.WriteString("ignore: [\"*-1.*\"]\ncategories: {data: {types: [.txt]}}\n")
	}
	b.WriteString("rules:\n")
	for _, r := range rules {
		fmt.Fprintf(&b, "  - name: %s\n", r.name)
		for _, k := range r.keys {
			fmt.Fprintf(&b, "    %s\n", k)
		}
		if len(r.steps) > 0 {
			b.WriteString("    do:\n")
			for _, s := range r.steps {
				fmt.Fprintf(&b, "      - {%s}\n", s)
			}
		}
	}
	return b.String()
}

// has reports whether any rule says something; laws whose conditions a world does
// not meet are left out by it.
func (w *world) has(parts ...string) bool {
	text := w.text()
	return slices.ContainsFunc(parts, func(part string) bool { return strings.Contains(text, part) })
}

// describe prints a world so that a person can make it again.
func (w *world) describe() string {
	var b strings.Builder
	b.WriteString(w.text())
	for _, f := range w.files {
		switch {
		case f.link != "":
			fmt.Fprintf(&b, "# %q is a link to %q\n", f.path, f.link)
		case f.hard != "":
			fmt.Fprintf(&b, "# %q is a second name of %q\n", f.path, f.hard)
		default:
			fmt.Fprintf(&b, "# %q holds %q, mode %o, %v old\n", f.path, f.content, f.mode, f.age)
		}
	}
	if w.stick != nil {
		fmt.Fprintf(&b, "# far is a stick: %+v\n", *w.stick)
	}
	if w.first != nil {
		b.WriteString("# the rules of a first sweep:\n# " + strings.ReplaceAll(w.firstText(), "\n", "\n# ") + "\n")
	}
	for _, c := range w.later {
		fmt.Fprintf(&b, "# after a first sweep: %v\n", c)
	}
	return b.String()
}

var (
	drawnFolders = []string{"in", "in/sub", "a", "a/sub", "b", "out", "in/csv"}
	drawnNames   = []string{"one.csv", "two.csv", "three.txt", "x-1.csv", "x-2.txt", "noext", "Ü ö.TXT",
		"one-2.csv", "-rf.csv", "{name}.txt", "a'b\"c.csv", "one.csv.ok", ".hidden", "new\nline.txt", "bad\xff.csv",
		"part.tmp", "pack.zip", "pack.zip", "ONE.csv", "one-1.csv", "one.csv.part", " lead.csv", "trail .txt",
		"dot..csv", "U\u0308 o\u0308.TXT", strings.Repeat("l", 249) + ".csv"}
	drawnTexts  = []string{"", "1", "22", "same", "same", "other text", "x\ny\n"}
	drawnPlaces = []string{
		"in", "a", "b", "out", ".", "in/sub", "out/deep", `"{folder}"`, `"{watch}"`, `"{watch}/{rel_folder}"`,
		`"out/{ext}"`, `"in/{ext|upper}"`, `"in/{ext}"`, `"out/{stem}"`,
		`"{folder}/x"`, "link", `"link/{stem}"`, `"out/{modified:%Y}"`, `"a/{rule}"`, `"{watch}/done"`,
		`"next/{ext}"`, `"{folder}/../b"`, `"out/{rel_folder}"`, `"out/{size}"`, "far", `"far/{stem}"`,
		`"{spot}"`, `"{spot}/{ext}"`, `"{watch}/../b"`,
	}
	drawnAs = []string{"", "", "", "", `"{name|upper}"`, "same.txt", `"{stem}-2.csv"`, `"{rule}-{name}"`,
		`"{stem}.{ext}"`, `"{word}-{name}"`}
)

// drawing draws a world.
type drawing struct{ r *rand.Rand }

func (d drawing) one(list ...string) string { return list[d.r.IntN(len(list))] }
func (d drawing) chance(percent int) bool   { return d.r.IntN(100) < percent }

// draw returns the world of a seed: the first one after it whose rules are free of errors.
func draw(seed uint64) *world {
	d := drawing{rand.New(rand.NewPCG(seed, 18))}
	for {
		w := &world{seed: seed}
		for i := range 1 + d.r.IntN(4) {
			w.rules = append(w.rules, d.rule(i))
		}
		if _, diags := notation.Parse("/world/stilltide.yaml", []byte(w.text())); diags.Failed() {
			continue
		}
		d.fill(w)
		if w.later = d.changes(); len(w.later) > 0 && d.chance(40) {
			w.first = d.edited(w.rules)
		}
		w.stick = d.stick(w)
		return w
	}
}

var watchesFar = regexp.MustCompile(`watch: .*far`)

// stick draws what the other file system lacks, in half of the worlds that use it. It has times, which come back.
func (d drawing) stick(w *world) *stick.Lacks {
	often := 50
	if watchesFar.MatchString(w.text()) {
		often = 10 // who writes there is not known: a file must hold still for seconds
	}
	if !w.has("far") || !d.chance(often) {
		return nil
	}
	lacks := &stick.Lacks{Flags: d.chance(50), Links: d.chance(50), Modes: d.chance(50),
		Tags: d.chance(50), Exact: []time.Duration{0, time.Second, 2 * time.Second}[d.r.IntN(3)]}
	if w.has("unit: folder") { // of what lies inside only what its copy holds comes back
		lacks.Modes, lacks.Exact = false, 0
	}
	return lacks
}

func (d drawing) fill(w *world) {
	have := map[string]bool{}
	for range 1 + d.r.IntN(9) {
		folder := d.one(append(drawnFolders[:6:6], d.one("far", "in"))...)
		f := drawnFile{path: folder + "/" + d.one(drawnNames...), content: d.one(drawnTexts...),
			mode: []fs.FileMode{0o644, 0o600, 0o755, 0o444}[d.r.IntN(4)],
			age:  []time.Duration{time.Minute, time.Hour, 400 * 24 * time.Hour}[d.r.IntN(3)]}
		if have[f.path] {
			continue
		}
		if strings.HasSuffix(f.path, ".zip") && !d.chance(20) { // now and then one that is none
			f.content = d.archive()
		}
		switch {
		case d.chance(4):
			f.link = d.one("in/one.csv", "b", "../nowhere")
		case d.chance(6) && len(w.files) > 0 && w.files[0].link == "":
			f.hard = w.files[0].path
		}
		have[f.path] = true
		w.files = append(w.files, f)
	}
}

// archive draws a zip archive.
func (d drawing) archive() string {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for range 1 + d.r.IntN(3) {
		w, err := z.Create(d.one("one.csv", "deep/two.csv", "three.txt", "deep/down/noext", "../out"))
		if err == nil {
			_, _ = w.Write([]byte(d.one(drawnTexts...)))
		}
	}
	_ = z.Close()
	return b.String()
}

func (d drawing) rule(i int) drawnRule {
	r := drawnRule{name: fmt.Sprintf("r%d", i)}
	key := func(percent int, lines ...string) {
		if d.chance(percent) {
			r.keys = append(r.keys, d.one(lines...))
		}
	}
	r.keys = append(r.keys, "watch: "+d.one("in", "in", "in", "a", "a", "b", "out", "[in, a]", "in/sub", "link",
		".", `"in*"`, "far", `"<part>/sub"`, `"<part=[ab]>"`))
	key(35, "depth: all", "depth: all", "depth: 1")
	key(8, "unit: folder")
	key(10, "events: [added]", "events: [changed]", "events: [added, changed, removed]", "events: removed")
	key(40, `match: "*.csv"`, "match: .txt", `match: "<w>-*"`, `match: ["*", "!*.txt"]`,
		`match: "re:^[a-z]+[.]csv$"`, `match: "x*"`, `match: "*"`, `match: "<part=*>-<w>.<e>"`, `match: "sub/<w>.csv"`)
	key(8, "hidden: true")
	key(6, "ignore_case: true")
	key(6, "category: data", "category: [archives, documents]", "category: spreadsheets")
	key(8, "size: 2B..", "size: ..3B", `where: 'size > 2'`, `where: 'ext == "csv"'`, `media_type: "text/*"`,
		"age: 30m..")
	key(6, "existing: leave")
	key(8, "again_on: b/*", "again_on: [in/*, a/noext]", "again_on: out/*.csv", "again_on: in/sub/*")
	key(12, "share: true")
	key(5, "enabled: false")
	key(8, "again: never", "again: always")
	key(30, "same_name: number", "same_name: replace", "same_name: skip", "same_name: fail")
	key(8, `ready: {marker: "{name}.ok"}`, "ready: {min_size: 2B}", "ready: {writers: ignore}",
		"ready: {min_size: 2B, max_wait: 1ms, overdue: take}",
		`ready: {marker: "{name}.ok", max_wait: 1ms, overdue: fail}`)
	key(4, "while_running: own_work", "while_running: stop_old")
	key(3, "timeout: 1m")
	key(6, "batch: {quiet: 5ms, max_files: 3}", `group: {by: "{stem}", need: ["*"]}`,
		`group: {by: "{stem}", need: ["*.csv", "*.txt"], max_wait: 1ms}`,
		`group: {by: "{ext}", need: ["*"], max_wait: 1ms, overdue: take}`)
	key(6, "order: name", "order: smallest", "order: newest")
	key(4, `serial_by: "{name}"`)
	key(3, "loops: allow")
	key(8, "queue: slow", "queue: quick")
	key(8, `let: {class: 'size > 2 ? "big" : "small"'}`, `let: {class: 'name.split(".")[0]'}`)
	key(2, `schedule: "0 0 1 1 *"`)
	if strings.Contains(fmt.Sprint(r.keys), "let: ") {
		key(70, `processed: "out/{class}"`, `processed: {to: out, as: "{class}-{name}"}`, `failed: "{class}"`)
	}
	if strings.Contains(fmt.Sprint(r.keys), "<w>") {
		key(70, `processed: "out/{w}"`, `processed: {to: out, as: "{w|upper}-{name}"}`, `failed: "a/{w}"`)
	}
	if strings.Contains(fmt.Sprint(r.keys), "<part") {
		key(70, `processed: "out/{part}"`, `failed: {to: "{spot}", as: "{part}-{name}"}`)
	}
	key(60, "processed: "+d.place())
	key(30, "failed: "+d.place())
	if d.chance(45) {
		for range 1 + d.r.IntN(3) {
			r.steps = append(r.steps, d.step())
		}
	}
	if d.chance(5) {
		r.steps = append(r.steps, "run: cat {file}, save: got", "write: "+d.one(drawnPlaces...)+
			`, as: "got-{stem}.txt", content: "{got}"`)
	}
	if d.chance(8) { // the file goes for good, and what was made of it before may be all there is
		to := d.one(drawnPlaces...)
		r.steps = []string{
			d.one("copy: "+to, "copy: "+to, "unpack: "+to, "mirror: "+to),
			d.one("discard: delete", "run: rm {file}", `script: "echo more >>\"$1\""`),
			d.one(`run: "false"`, "copy: a", "run: true"),
		}
	}
	return r
}

// place draws a destination, with another name now and then.
func (d drawing) place() string {
	to, as := d.one(drawnPlaces...), d.one(drawnAs...)
	if as == "" {
		return to
	}
	return "{to: " + to + ", as: " + as + "}"
}

func (d drawing) step() string {
	as := ""
	if name := d.one(drawnAs...); name != "" {
		as = ", as: " + name
	}
	to := d.one(drawnPlaces...)
	s := d.one(
		"copy: "+to+as, "copy: "+to+as, "move: "+to+as, "rename: "+d.one(`"{name|lower}"`, `"new-{name}"`,
			`"{name}"`, "same.txt"),
		`copy: `+to+`, from: "in/*"`, `move: `+to+`, from: "b/*"`,
		"discard: trash", "discard: delete", "tag: [seen]", "untag: [seen]", "link: "+to+as,
		"link: "+to+as+", hard: true", "write: "+to+`, as: "note-{stem}.txt", content: "of {name}"`,
		"mirror: "+to, "mirror: "+to+", repair: true", "unpack: "+to, "unpack: "+to, `replace_with: "{scratch}/new"`, "run: true", `run: "false"`,
		`run: "test -s {file}"`, `script: "cat \"$1\" | tr a-z A-Z", stdout: "{scratch}/new"`,
		`run: cat {file}, stdout: "out/{stem}.upper"`, `run: cp {file} {scratch}/new`, `run: rm {file}`,
		`script: "echo more >>\"$1\""`, `copy: `+to+`, from: "{scratch}/*"`,
	)
	if d.chance(10) && !strings.Contains(s, "tag: ") {
		s += `, where: 'size > 2'`
	}
	if d.chance(20) && (strings.HasPrefix(s, "copy") || strings.HasPrefix(s, "move") || strings.HasPrefix(s,
		"rename") || strings.HasPrefix(s, "write") || strings.HasPrefix(s, "mirror") || strings.HasPrefix(s,
		"link")) {
		s += ", same_name: " + d.one("number", "replace", "skip", "fail")
	}
	return s
}

// build lays the world out in a folder.
func (w *world) build(t *testing.T, dir string) {
	t.Helper()
	w.dir = dir
	must := func(err error) {
		if err != nil {
			t.Fatal(err)
		}
	}
	for _, folder := range drawnFolders[:6] {
		must(os.MkdirAll(filepath.Join(dir, folder), 0o755))
	}
	must(os.Symlink("in", filepath.Join(dir, "link")))
	far, err := os.MkdirTemp(otherDisk(dir), "stilltide-far-")
	must(err)
	must(os.Symlink(far, filepath.Join(dir, "far")))
	now := time.Now()
	for _, f := range w.files {
		path := filepath.Join(dir, f.path)
		switch {
		case f.link != "":
			must(os.Symlink(f.link, path))
		case f.hard != "" && os.Link(filepath.Join(dir, f.hard), path) == nil:
		default:
			must(os.WriteFile(path, []byte(f.content), 0o644))
			must(os.Chmod(path, f.mode))
			must(os.Chtimes(path, now.Add(-f.age), now.Add(-f.age)))
		}
	}
	must(w.putOnStick(far, filepath.Join(dir, "far")))
	must(os.WriteFile(filepath.Join(dir, rule.FileName), []byte(w.text()), 0o644))
}

// entry is what a snapshot knows of one path.
type entry struct {
	Kind    string // file, folder, link or other
	Content string
	Mode    fs.FileMode
	Mod     time.Time
}

func (e entry) String() string {
	return fmt.Sprintf("%s %q %o %s", e.Kind, e.Content, e.Mode, e.Mod.Format("2006-01-02T15:04:05.000000000"))
}

// tree is a snapshot of a folder, by path.
type tree map[string]entry

// otherDisk is a folder for temporary files on another file system than a folder; "" if this machine has none.
func otherDisk(dir string) string {
	here, err := watchfs.Stat(dir)
	for _, other := range []string{"/dev/shm", "/tmp", "/var/tmp"} {
		there, statErr := watchfs.Stat(other)
		if err == nil && statErr == nil && there.Dir && there.Dev != here.Dev {
			return other
		}
	}
	return ""
}

// farOf is a folder of a world on another file system, if this machine has one.
func farOf(dir string) string {
	far, _ := os.Readlink(filepath.Join(dir, "far"))
	return far
}

// sticks are the plain file systems of worlds that are mounted, by their folders.
var sticks sync.Map

// putOnStick has a folder, and the link to it, lie on the plain file system of a stick in some worlds. Where this
// process may not mount, it stays where it is.
func (w *world) putOnStick(far, link string) error {
	at := far + "-stick"
	if w.stick == nil || os.Mkdir(at, 0o755) != nil {
		return nil
	}
	unmount, err := stick.Mount(far, at, *w.stick)
	if err != nil {
		return os.Remove(at)
	}
	sticks.Store(at, unmount)
	return errors.Join(os.Remove(link), os.Symlink(at, link))
}

// remove removes a world, and what lies outside its folder.
func remove(dir string) {
	if far := farOf(dir); far != "" {
		if unmount, is := sticks.LoadAndDelete(far); is {
			_ = unmount.(func() error)()
			os.Remove(far)
			far = strings.TrimSuffix(far, "-stick")
		}
		os.RemoveAll(far)
	}
	os.RemoveAll(trashOf(dir))
	os.RemoveAll(dir)
}

// trashOf is the trash of a world: beside it, where no rule of its watches.
func trashOf(dir string) string { return dir + "-trash" }

// snapshot reads all below a folder but the ledger's own.
func snapshot(t *testing.T, dir string) tree {
	t.Helper()
	all := tree{}
	all.read(t, dir, "")
	if far := farOf(dir); far != "" {
		all.read(t, far, "far")
		all["far"] = entry{Kind: "folder"}
	}
	return all
}

// read takes in what lies in a folder, which is called something else in the world.
func (a tree) read(t *testing.T, dir, called string) {
	t.Helper()
	err := filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(dir, path)
		if err != nil {
			return err
		}
		if rel == ".stilltide" {
			return fs.SkipDir
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		e := entry{Kind: "other", Mode: info.Mode().Perm(), Mod: info.ModTime()}
		switch {
		case info.IsDir():
			e.Kind, e.Mod = "folder", time.Time{} // it changes with what is in it
		case info.Mode()&fs.ModeSymlink != 0:
			e.Kind = "link"
			e.Content, err = os.Readlink(path)
			e.Content = strings.TrimPrefix(e.Content, dir+"/")
		case info.Mode().IsRegular():
			e.Kind = "file"
			var text []byte
			text, err = os.ReadFile(path)
			e.Content = string(text)
		}
		a[filepath.Join(called, rel)] = e
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
}

// contents lists every content below a folder, the ledger's and the trash included.
func contents(t *testing.T, dir string) map[string]bool {
	t.Helper()
	have := map[string]bool{}
	for _, top := range []string{dir, trashOf(dir), farOf(dir)} {
		err := filepath.WalkDir(top, func(path string, d fs.DirEntry, err error) error {
			if err != nil || !d.Type().IsRegular() {
				return ignoreGone(err)
			}
			if rel, _ := filepath.Rel(dir, path); strings.HasPrefix(rel, ".stilltide/") && !strings.HasPrefix(rel,
				".stilltide/kept/") {
				return nil
			}
			text, err := os.ReadFile(path)
			if err == nil {
				have[fmt.Sprintf("%x", sha256.Sum256(text))] = true
			}
			return ignoreGone(err)
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	return have
}

// ignoreGone is an error, but not that something is not there: what a file system hides goes when it likes.
func ignoreGone(err error) error {
	if os.IsNotExist(err) {
		return nil
	}
	return err
}

// differences lists what is not the same in two snapshots, "" if nothing is.
func (a tree) differences(b tree, folders bool) string {
	var list []string
	for path, was := range a {
		if was.Kind == "folder" && !folders {
			continue
		}
		if is, ok := b[path]; !ok {
			list = append(list, fmt.Sprintf("%q is gone (%v)", path, was))
		} else if is != was {
			list = append(list, fmt.Sprintf("%q was %v, is %v", path, was, is))
		}
	}
	for path, is := range b {
		if _, ok := a[path]; !ok && (folders || is.Kind != "folder") {
			list = append(list, fmt.Sprintf("%q is new (%v)", path, is))
		}
	}
	slices.Sort(list)
	return strings.Join(list, "\n")
}
