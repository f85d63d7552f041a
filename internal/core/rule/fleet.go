package rule

import "slices"

// Fleet is the engine through which rules with a pool reach other machines, and how this
// watcher shows who it is there.
type Fleet struct {
	Server   []Text            `key:"server" doc:"address of a NATS server with JetStream, such as nats://10.0.0.5:4222, or a list of those of a cluster"`
	KeyFile  Path              `key:"key_file" doc:"this watcher's key, made by stilltide fleet make-key: its offers are signed with it; mode 0600"`
	CA       Path              `key:"ca" doc:"the certificate of the authority that signed the servers' certificates, in PEM; those of the system if left out"`
	Lease    Duration          `key:"lease" doc:"how long a helper may be silent until its command is given to another, from 2s to 10m; 30s if left out"`
	InFlight Size              `key:"max_in_flight" doc:"how much of the inputs may be under way at once; 256MB if left out"`
	Shared   map[string]string `key:"shared" doc:"folders that helpers mount, too, each with its path there: files below them are not carried"`

	Pos Pos
}

func (v *Fleet) SetPos(p Pos) { v.Pos = p }

// MaxInFlight is how many bytes of inputs may be under way at once.
func (v *Fleet) MaxInFlight() int64 {
	if v.InFlight == 0 {
		return 256_000_000
	}
	return int64(v.InFlight)
}

// Servers lists the addresses.
func (v *Fleet) Servers() []string {
	list := make([]string, len(v.Server))
	for i, s := range v.Server {
		list[i] = s.S
	}
	return list
}

// WhileAway says what happens while no other machine can run a rule's commands.
type WhileAway Choice

const (
	AwayHold    WhileAway = "hold"
	AwayRunHere WhileAway = "run_here"
)

// Travels reports whether the rule's commands run on other machines.
func (r *Rule) Travels() bool { return r.Pool.Set() && r.Runs() }

// Pools lists the pools that rules name, each once, in the order of the rules.
func (f *File) Pools() (names []string) {
	for _, r := range f.List {
		if r.Travels() && r.Enabled && !slices.Contains(names, r.Pool.S) {
			names = append(names, r.Pool.S)
		}
	}
	return names
}
