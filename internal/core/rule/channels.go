package rule

import (
	"maps"
	"slices"
	"time"

	"stilltide/internal/core/fill"
)

// LogChannel is the channel that is always there: a line of the watcher.
const LogChannel = "log"

// Channels are where notices go, by name.
type Channels map[string]Channel

// SecretNames lists the environment variables in which the rules have secrets. Commands do
// not get them unless a step's env asks.
func (f *File) SecretNames() []string {
	names := map[string]bool{}
	for _, c := range f.Channels {
		names[c.Secret.S] = true
		if c.Mail != nil {
			names[c.Mail.Password.S] = true
		}
	}
	for _, r := range f.All() {
		for i := range r.Steps {
			if holder, ok := r.Steps[i].Act.(interface{ Secrets() []string }); ok {
				for _, name := range holder.Secrets() {
					names[name] = true
				}
			}
		}
	}
	delete(names, "")
	return slices.Sorted(maps.Keys(names))
}

// Channel is one of them. Exactly one of Desktop, Webhook, Mail and Command is set.
type Channel struct {
	Desktop bool     `key:"desktop" doc:"true: a notification of the desktop, over D-Bus"`
	Webhook Text     `key:"webhook" doc:"an address that gets a CloudEvent as JSON over HTTP, again and again until it is taken"`
	Secret  Text     `key:"secret_env" doc:"webhook: the environment variable with the secret (whsec_…) that signs it by the Standard Webhooks scheme"`
	Mail    *Mail    `key:"mail" doc:"an e-mail: server, from, to, and perhaps user, password_env, encryption"`
	Command Text     `key:"command" doc:"a program without a shell; the notice is its standard input, and the placeholders are {title}, {text}, {count}, {channel}"`
	Digest  Duration `key:"digest" doc:"how long it gathers notices after the first, so that it sends at most one message in that time; 10s if left out"`

	Pos  Pos
	Base string // folder that a command runs in
	Run  *fill.Command
}

func (c *Channel) SetPos(p Pos) { c.Pos = p }

// defaultDigest is how long a channel gathers that does not say so.
const defaultDigest = 10 * time.Second

// DigestTime is how long the channel gathers after the first notice.
func (c Channel) DigestTime() time.Duration {
	if c.Digest.Pos.Line == 0 {
		return defaultDigest
	}
	return c.Digest.Duration
}

// Mail is the way of an e-mail.
type Mail struct {
	Server   Text       `key:"server" doc:"host and port of the mail server: 127.0.0.1:2525"`
	From     Text       `key:"from" doc:"the sender's address"`
	To       []Text     `key:"to" doc:"an address, or a list"`
	User     Text       `key:"user" doc:"name for the server, if it wants one"`
	Password Text       `key:"password_env" doc:"the environment variable with the password"`
	Secrecy  Encryption `key:"encryption" doc:"starttls_if_offered, starttls (required, RFC 3207), implicit_tls (RFC 8314) or none; starttls_if_offered if left out"`
}

// Encryption says how a mail server is spoken to.
type Encryption Choice

const (
	StartTLSIfOffered Encryption = "starttls_if_offered"
	StartTLS          Encryption = "starttls"     // RFC 3207
	ImplicitTLS       Encryption = "implicit_tls" // RFC 8314
	NoTLS             Encryption = "none"
)

// Occasion is something that people may want to be told.
type Occasion Choice

const (
	OnFailed    Occasion = "failed"    // a job failed for good
	OnProcessed Occasion = "processed" // a job succeeded
	OnCaughtUp  Occasion = "caught_up" // a rule has nothing left to do
	OnOverdue   Occasion = "overdue"   // a file did not become ready in time
	OnBlocked   Occasion = "blocked"   // an ability was lost, or is back
	OnUnmatched Occasion = "unmatched" // no rule took a file
)

// Notify says what is told, and on which channels.
type Notify struct {
	On []Occasion `key:"on" doc:"what is told: of a rule failed, processed, caught_up, overdue, blocked; of the whole file blocked, unmatched"`
	To []Text     `key:"to" doc:"a channel, or a list; log is always there"`
	// Text replaces what a notice would say.
	Text Text `key:"text" doc:"what the notices say, in your own words: {kind} {rule} {file} {name} {file_now} {folder} {reason} {job} {count} are filled; a sentence of the program's own if left out"`

	Words *fill.Template // of Text, nil without one
	Pos   Pos
}

func (v *Notify) SetPos(p Pos) { v.Pos = p }

// Channels returns the channels for an occasion; nil for a nil Notify.
func (v *Notify) Channels(o Occasion) []string {
	if v == nil || !slices.Contains(v.On, o) {
		return nil
	}
	names := make([]string, len(v.To))
	for i, t := range v.To {
		names[i] = t.S
	}
	return names
}

// Heartbeat tells a channel regularly that all is well, so that somebody else
// notices silence.
type Heartbeat struct {
	To    Text     `key:"to" doc:"the channel that is told"`
	Every Duration `key:"every" doc:"how often"`

	Pos Pos
}

func (v *Heartbeat) SetPos(p Pos) { v.Pos = p }
