package notation

import (
	"fmt"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/goccy/go-yaml/ast"

	"stilltide/internal/core/diag"
	"stilltide/internal/core/fill"
	"stilltide/internal/core/rule"
)

func readWhileAway(d *decoder, n ast.Node, v *rule.WhileAway) {
	*v = rule.WhileAway(choose(d, n, "while_away", "hold", "run_here"))
}

// PoolPattern is how a pool may be named: its name is part of the names that the engine knows.
const PoolPattern = `^[A-Za-z0-9_-]{1,32}$`

var poolName = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(PoolPattern) })

// ServerPattern is an address of a server.
const ServerPattern = `^((nats|tls)://)?[^/@\s]+$`

var serverName = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(ServerPattern) })

// fleet checks the engine that the file names.
func (d *decoder) fleet(f *rule.File) {
	v := f.Fleet
	if v == nil {
		return
	}
	v.KeyFile, v.CA = d.put(v.KeyFile), d.put(v.CA)
	if len(v.Server) == 0 {
		d.lacks(v.Pos, "fleet: names no server", "add server: and an address, such as "+
			"nats://10.0.0.5:4222")
	}
	for i, s := range v.Server {
		v.Server[i].S = d.put(rule.Path{Text: s}).S
		if !serverName().MatchString(v.Server[i].S) {
			d.add(diag.SeverityError, s.Pos, "server", fmt.Sprintf("%q is no address of a server", s.S),
				"write nats://HOST:PORT; who may connect is said by key_file, not in the address")
		}
	}
	if !v.KeyFile.Set() {
		d.lacks(v.Pos, "fleet: names no key_file, and helpers run only what is signed",
			"make one with stilltide fleet make-key FILE, and name it")
	}
	if l := v.Lease; l.Pos.Line > 0 && (l.Duration < 2*time.Second || l.Duration > 10*time.Minute) {
		d.add(diag.SeverityError, l.Pos, "lease", "lease is from 2s to 10m", "30s suits most")
	}
	for here, there := range v.Shared {
		if !filepath.IsAbs(here) || !filepath.IsAbs(there) {
			d.add(diag.SeverityError, v.Pos, "shared", fmt.Sprintf("shared: %s and %s must both be whole paths", here,
				there), "begin each with /")
		}
	}
}

// awayWords are those of the watcher's folders, which mean nothing on another machine.
var awayWords = []string{"folder", "watch", "placed", "old_file"}

// pool checks what a rule says of the machines that run its commands.
func (d *decoder) pool(f *rule.File, r *rule.Rule) {
	r.Bring = d.putAll(r.Bring)
	if !r.Pool.Set() {
		if len(r.Bring) > 0 {
			d.add(diag.SeverityError, r.Bring[0].Pos, "pool", "bring goes with pool: nothing of this rule travels",
				"add pool:, or remove bring:")
		}
		return
	}
	bad := func(at rule.Pos, message, hint string) { d.add(diag.SeverityError, at, "pool", message, hint) }
	switch {
	case !poolName().MatchString(r.Pool.S):
		bad(r.Pool.Pos, fmt.Sprintf("%q cannot name a pool", r.Pool.S), "use letters, digits, - and _, at most 32")
	case f.Fleet == nil:
		bad(r.Pool.Pos, "pool names other machines, and this file does not say how to reach them",
			"add fleet: with server: at the top of the file")
	case !r.Runs():
		bad(r.Pool.Pos, "pool is for rules that run a command, and this one runs none", "remove pool:")
	case r.Running == rule.RunOwnWork:
		bad(r.Pool.Pos, "while_running: own_work does not go with pool: the command works on a copy of the file "+
			"on another machine", "write the result to {scratch} and use replace_with: for it")
	}
	for _, p := range r.Bring {
		d.brought(f, p)
	}
	for i := range r.Steps {
		if s := &r.Steps[i]; s.Kind() != nil && s.Runs() {
			d.travelling(r, s)
		}
	}
}

// brought checks a file that travels along.
func (d *decoder) brought(f *rule.File, p rule.Path) {
	if !p.Set() {
		return
	}
	rel, err := filepath.Rel(f.Base, p.Absolute())
	if err != nil || rel == "." || rel == ".." || strings.HasPrefix(rel, ".."+string(filepath.Separator)) {
		d.add(diag.SeverityError, p.Pos, "bring", fmt.Sprintf("%s is outside the folder of the rules file", p.S),
			"only what lies in that folder travels: put it there")
	}
}

// travelling checks a command that runs on another machine.
func (d *decoder) travelling(r *rule.Rule, s *rule.Step) {
	at := s.Keys[s.Verb()]
	if s.WorkingIn != nil {
		d.add(diag.SeverityError, s.WorkingFolder.Pos, "pool",
			"working_folder is a folder of this machine, and the command "+
				"runs on another", "remove it: the command starts in a folder that holds what bring: names")
	}
	for _, word := range awayWords {
		if s.Runs() && fills(s, word) {
			d.add(diag.SeverityError, at, "pool",
				fmt.Sprintf("{%s} is a path of this machine, and the command runs on "+
					"another", word), "use {file}, {name}, {rel} and {scratch}")
		}
	}
	if s.Command == nil {
		return
	}
	program := s.Command.Words[0]
	if text := program.String(); len(program.Refs()) == 0 && strings.Contains(text, "/") && !filepath.IsAbs(text) {
		path := filepath.Join(s.Base, text)
		if !slices.ContainsFunc(r.Bring, func(p rule.Path) bool {
			ok, err := filepath.Match(p.Absolute(), path)
			return ok && err == nil
		}) {
			d.add(diag.SeverityError, at, "pool",
				fmt.Sprintf("%s lies beside the rules file, and the command runs on another "+
					"machine", text), fmt.Sprintf("add bring: [%s], or give the program's whole path there", text))
		}
	}
}

// fills reports whether a command names one of the words, its destination and name apart.
func fills(s *rule.Step, word string) bool {
	if s.Command != nil && slices.ContainsFunc(s.Command.Words, func(t *fill.Template) bool { return t.Uses(word) }) {
		return true
	}
	return s.Script.Set() && mentionsEnv(s.Script.S, "TIDE_"+strings.ToUpper(word))
}

// mentionsEnv reports whether a variable is named in a text, not as the beginning of another.
func mentionsEnv(text, name string) bool {
	for {
		i := strings.Index(text, name)
		if i < 0 {
			return false
		}
		if text = text[i+len(name):]; text == "" || !strings.ContainsRune(
			"_ABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789abcdefghijklmnopqrstuvwxyz", rune(text[0])) {
			return true
		}
	}
}
