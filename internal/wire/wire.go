package wire

import (
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"stilltide/internal/core/fill"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nkeys"
)

// What the engine holds. The subjects' last words are those of the ledger and the ticket.
const (
	JobStream    = "TIDE_JOBS"    // tide.job.POOL.LEDGER.TICKET
	ResultStream = "TIDE_RESULTS" // tide.result.LEDGER.TICKET
	FileStream   = "TIDE_FILES"   // tide.file.LEDGER.TICKET.DIRECTION.FILE.PART
)

func JobSubject(pool, ledger, ticket string) string {
	return "tide.job." + pool + "." + ledger + "." + ticket
}
func ResultSubject(ledger, ticket string) string { return "tide.result." + ledger + "." + ticket }
func FileSubject(ledger, ticket string) string   { return "tide.file." + ledger + "." + ticket }
func CancelSubject(ledger, ticket string) string { return "tide.cancel." + ledger + "." + ticket }
func PrintSubject(ledger, ticket string) string  { return "tide.print." + ledger + "." + ticket }
func HereSubject(pool, helper string) string     { return "tide.here." + pool + "." + helper }

// WhoSubject is where helpers are asked to say at once that they are here.
const WhoSubject = "tide.who"

// LastWord is the ticket that a subject ends with.
func LastWord(subject string) string { return subject[strings.LastIndexByte(subject, '.')+1:] }

// WireVersion is that of the messages. A helper leaves those of another to others.
const WireVersion = 1

// Offer is all that a helper must know of a command. Paths in it begin with Root, which stands
// for the folder that the helper makes for it: its inputs are below in/, what it makes
// belongs below scratch/, and it starts in work/, where the files are that travel along.
type Offer struct {
	Version int      `json:"v"`
	Ticket  string   `json:"ticket"`
	Ledger  string   `json:"ledger"`
	Pool    string   `json:"pool"`
	Rule    string   `json:"rule"`
	Job     int64    `json:"job"`
	Attempt int      `json:"attempt"`
	Root    string   `json:"root"`
	Args    []string `json:"args"`
	Env     []string `json:"env,omitempty"`
	Secrets []string `json:"secrets,omitempty"` // variables that the command does not get unless Env asks for them
	Stdin   string   `json:"stdin,omitempty"`
	Apart   bool     `json:"apart,omitempty"` // its standard output is wanted by itself
	Timeout float64  `json:"timeout_s,omitempty"`
	Inputs  Manifest `json:"inputs"`
	Texts   []Text   `json:"texts,omitempty"` // files that are written from here
	Bring   []Item   `json:"bring,omitempty"` // kept by content
}

// Text is a small file whose text may name paths.
type Text struct {
	Path string `json:"path"`
	Text string `json:"text"`
	Mode uint32 `json:"mode"`
}

// Item is a file or folder that travels. Its path is relative, with slashes.
type Item struct {
	Path   string `json:"path"`
	Folder bool   `json:"folder,omitempty"`
	Size   int64  `json:"size,omitempty"`
	Mode   uint32 `json:"mode,omitempty"`  // permission bits
	Mod    int64  `json:"mtime,omitempty"` // nanoseconds since 1970
	SHA    string `json:"sha256,omitempty"`
	Inline []byte `json:"inline,omitempty"` // the content, if it is small
	At     string `json:"at,omitempty"`     // else the subject of its parts
	Parts  int    `json:"parts,omitempty"`
}

// Manifest lists what travels; a long list travels as a file itself.
type Manifest struct {
	Items []Item `json:"items,omitempty"`
	Long  *Item  `json:"long,omitempty"`
}

// Result is what came of an offer.
type Result struct {
	Version  int      `json:"v"`
	Ticket   string   `json:"ticket"`
	Helper   string   `json:"helper"`
	Delivery uint64   `json:"delivery"`
	Exit     int      `json:"exit"`
	Signal   string   `json:"signal,omitempty"`
	NotRun   string   `json:"not_run,omitempty"` // why it could not be run there
	Damaged  bool     `json:"damaged,omitempty"` // what was sent did not arrive whole: it is to be offered again
	NoRoom   bool     `json:"no_room,omitempty"` // the helper's disk is full: it is to be offered again later
	Lost     bool     `json:"lost,omitempty"`    // helpers were lost with it again and again; this one did not run it
	TimedOut bool     `json:"timed_out,omitempty"`
	Stopped  bool     `json:"stopped,omitempty"` // because the watcher asked for it
	Left     bool     `json:"left,omitempty"`    // it left processes behind, which were ended
	Ran      float64  `json:"ran_s"`
	CPU      float64  `json:"cpu_s"`
	Memory   int64    `json:"memory"`
	Printed  Item     `json:"printed"`
	Stdout   *Item    `json:"stdout,omitempty"`
	Outputs  Manifest `json:"outputs"`
}

// Here is what a helper says of itself, every few seconds and when asked.
type Here struct {
	Version string    `json:"version"`
	Helper  string    `json:"helper"`
	Pool    string    `json:"pool"`
	Workers int       `json:"workers"`
	Ends    bool      `json:"ends,omitempty"` // it takes nothing new
	Runs    []Running `json:"runs,omitempty"`
}

// Running is a command under way on a helper.
type Running struct {
	Ledger string  `json:"ledger"`
	Ticket string  `json:"ticket"`
	Rule   string  `json:"rule"`
	Job    int64   `json:"job"`
	For    float64 `json:"for_s"` // no time of day: clocks of machines differ
}

const (
	keyHeader       = "Tide-Key"
	signatureHeader = "Tide-Signature"
)

// Sign makes a message of an offer that says who made it.
func Sign(subject string, o Offer, by nkeys.KeyPair) (*nats.Msg, error) {
	data, err := json.Marshal(o)
	if err != nil {
		return nil, err
	}
	key, err := by.PublicKey()
	if err != nil {
		return nil, err
	}
	signature, err := by.Sign(data)
	if err != nil {
		return nil, err
	}
	m := nats.NewMsg(subject)
	m.Data = data
	m.Header.Set(keyHeader, key)
	m.Header.Set(signatureHeader, base64.StdEncoding.EncodeToString(signature))
	return m, nil
}

// errUntrusted says that an offer is of a watcher that this helper does not work for.
var errUntrusted = errors.New("it is not signed by a watcher that --trust names")

// Open reads an offer, if one of the trusted watchers has signed it.
func Open(subject string, header nats.Header, data []byte, trusted []string) (o Offer, err error) {
	key := header.Get(keyHeader)
	if !slices.Contains(trusted, key) {
		return o, errUntrusted
	}
	by, err := nkeys.FromPublicKey(key)
	if err != nil {
		return o, errUntrusted
	}
	signature, err := base64.StdEncoding.DecodeString(header.Get(signatureHeader))
	if err != nil || by.Verify(data, signature) != nil {
		return o, errUntrusted
	}
	if err := json.Unmarshal(data, &o); err != nil {
		return o, fmt.Errorf("the offer cannot be read: %w", err)
	}
	if subject != JobSubject(o.Pool, o.Ledger, o.Ticket) {
		return o, errUntrusted // a signed offer that somebody gave another place
	}
	if o.Version != WireVersion {
		return o, fmt.Errorf("the offer is of version %d, and this program knows %d", o.Version, WireVersion)
	}
	return o, nil
}

// goodName is how a helper or a pool may be named: its name is part of subjects, and is shown.
var goodName = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^[A-Za-z0-9_-]{1,64}$`) })

// GoodName reports whether a helper or a pool may have a name.
func GoodName(name string) bool { return goodName().MatchString(name) }

// maxSaid bounds what a helper may say in a sentence, in bytes.
const maxSaid = 2000

// plainly makes a sentence of another machine safe to be shown.
func plainly(text string) string {
	return fill.PlainLine(strings.ToValidUTF8(text[:min(len(text), maxSaid)], "\uFFFD"))
}

// ReadHere reads what a helper says of itself, if it says that in its own name.
func ReadHere(subject string, data []byte) (h Here, ok bool) {
	if json.Unmarshal(data, &h) != nil || !GoodName(h.Helper) || !GoodName(h.Pool) || h.Workers < 0 ||
		subject != HereSubject(h.Pool, h.Helper) {
		return h, false
	}
	h.Version = plainly(h.Version)
	for i := range h.Runs {
		h.Runs[i].Rule = plainly(h.Runs[i].Rule)
	}
	return h, true
}

// errNoResult says that a result cannot be used as it came.
var errNoResult = errors.New("the result cannot be read")

// ReadResult reads the result for a ticket. What a helper says in it is made safe to be shown.
func ReadResult(data []byte, ticket string) (r Result, err error) {
	if json.Unmarshal(data, &r) != nil || r.Version != WireVersion || r.Ticket != ticket || !GoodName(r.Helper) {
		return Result{}, errNoResult
	}
	r.NotRun, r.Signal, r.Delivery = plainly(r.NotRun), plainly(r.Signal), max(r.Delivery, 1)
	return r, nil
}

// Seconds is a time of that many seconds.
func Seconds(s float64) time.Duration { return time.Duration(s * float64(time.Second)) }

// PoolConsumer is the name under which the engine hands a pool's offers out.
func PoolConsumer(pool string) string { return "pool-" + pool }

// OffsetHeader says where in what a command prints a piece of it begins.
const OffsetHeader = "Tide-Offset"

// SayEvery is how often a helper says that it is here.
const SayEvery = 5 * time.Second
