package rule

import (
	"fmt"
	"maps"
	"net/netip"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"

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

func readEncryption(d *decoder, n ast.Node, v *Encryption) {
	*v = Encryption(choose(d, n, "encryption", "starttls_if_offered", "starttls", "implicit_tls", "none"))
}

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

func readOccasion(d *decoder, n ast.Node, v *Occasion) {
	*v = Occasion(choose(d, n, "on", "failed", "processed", "caught_up", "overdue", "blocked", "unmatched"))
}

// Notify says what is told, and on which channels.
type Notify struct {
	On []Occasion `key:"on" doc:"what is told: of a rule failed, processed, caught_up, overdue, blocked; of the whole file blocked, unmatched"`
	To []Text     `key:"to" doc:"a channel, or a list; log is always there"`
	// Text replaces what a notice would say.
	Text Text `key:"text" doc:"what the notices say, in your own words: {kind} {rule} {file} {name} {file_now} {folder} {reason} {job} {count} are filled; a sentence of the program's own if left out"`

	Words *fill.Template // of Text, nil without one
	Pos   Pos
}

// ownWords are filled in the text of a notice.
var ownWords = []string{"kind", "rule", "file", "name", "file_now", "folder", "reason", "job", "count"}

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

// noticeKeys checks what the head of the file says of notices.
func (d *decoder) noticeKeys(f *File) {
	d.channels = slices.Sorted(maps.Keys(f.Channels))
	for _, name := range d.channels {
		c := f.Channels[name]
		d.channel(name, &c)
		f.Channels[name] = c
	}
	d.notify(f.Notify, OnBlocked, OnUnmatched)
	if h := f.Heartbeat; h != nil {
		d.knownChannel(h.To, h.Pos, "heartbeat")
		if h.Every.Duration < time.Second {
			d.add(SeverityError, h.Pos, "heartbeat", "a heartbeat needs every: with at least 1s",
				"every: 1h, for instance")
		}
	}
	if f.Listen.Set() {
		d.listen(f.Listen)
	}
}

func (d *decoder) channel(name string, c *Channel) {
	c.Base = d.base
	kinds := 0
	for _, set := range []bool{c.Desktop, c.Webhook.Set(), c.Mail != nil, c.Command.Set()} {
		if set {
			kinds++
		}
	}
	bad := func(message, hint string) { d.add(SeverityError, c.Pos, "channel", message, hint) }
	switch {
	case name == LogChannel:
		bad("the channel log is always there and cannot be another", "give this one another name")
	case kinds != 1:
		bad(fmt.Sprintf("the channel %s must say one way to send, and says %d", name, kinds),
			"write one of desktop: true, webhook:, mail: or command:")
	case c.Secret.Set() && !c.Webhook.Set():
		bad("secret_env signs web hooks, and this channel is none", "remove it")
	}
	if c.Webhook.Set() {
		c.Webhook = d.put(Path{Text: c.Webhook}).Text
		if u, err := url.Parse(c.Webhook.S); err != nil || u.Host == "" || u.Scheme != "http" &&
			u.Scheme != "https" {
			d.add(SeverityError, c.Webhook.Pos, "address", fmt.Sprintf("%q is not a web address", c.Webhook.S),
				"begin it with http:// or https:// and name the host")
		}
	}
	if c.Command.Set() {
		c.Run = d.command(c.Command, noticeWords)
	}
	if c.Mail != nil {
		d.mail(name, c)
	}
}

// noticeWords are the placeholders of a channel's command.
var noticeWords = []string{"title", "text", "count", "channel"}

func (d *decoder) mail(name string, c *Channel) {
	m := c.Mail
	bad := func(message, hint string) { d.add(SeverityError, c.Pos, "channel", message, hint) }
	if m.Secrecy == "" {
		m.Secrecy = StartTLSIfOffered
	}
	m.Server = d.put(Path{Text: m.Server}).Text
	if _, _, ok := hostPort(m.Server.S); !ok {
		bad(fmt.Sprintf("the channel %s needs a mail server with its port", name),
			"server: 127.0.0.1:25, for instance")
	}
	if !strings.Contains(m.From.S, "@") || len(m.To) == 0 {
		bad(fmt.Sprintf("the channel %s needs from: and to: with e-mail addresses", name), "")
	}
	for _, to := range m.To {
		if !strings.Contains(to.S, "@") {
			d.add(SeverityError, to.Pos, "address", fmt.Sprintf("%q is not an e-mail address", to.S), "")
		}
	}
	if m.User.Set() != m.Password.Set() {
		bad("user and password_env go together", "write both, or neither")
	}
}

// notify checks one notify: and what may be told there.
func (d *decoder) notify(n *Notify, allowed ...Occasion) {
	if n == nil {
		return
	}
	if len(n.On) == 0 || len(n.To) == 0 {
		d.add(SeverityError, n.Pos, "missing", "notify needs on: and to:",
			"notify: {on: failed, to: log}, for instance")
	}
	for _, o := range n.On {
		if !slices.Contains(allowed, o) {
			hint := "unmatched belongs to no rule: put it into notify: at the top of the file"
			if o != OnUnmatched {
				hint = fmt.Sprintf("%s belongs to a rule: put it into the rule's notify:, or into defaults: for "+
					"all", o)
			}
			d.add(SeverityError, n.Pos, "choice", fmt.Sprintf("notify cannot tell of %q here", o), hint)
		}
	}
	for _, t := range n.To {
		d.knownChannel(t, n.Pos, "notify")
	}
	if n.Text.Set() {
		n.Words = d.template(n.Text, ownWords)
	}
}

// knownChannel checks that a notice goes somewhere.
func (d *decoder) knownChannel(t Text, at Pos, key string) {
	if t.S == LogChannel || slices.Contains(d.channels, t.S) {
		return
	}
	if !t.Set() {
		d.add(SeverityError, at, "missing", key+" does not say which channel is told", "")
		return
	}
	names := append([]string{LogChannel}, d.channels...)
	hint := "the channels are " + strings.Join(names, ", ")
	if near := Nearest(t.S, names); near != "" {
		hint = "did you mean " + near + "?"
	}
	d.add(SeverityError, t.Pos, "unknown-channel", fmt.Sprintf("there is no channel named %s", t.S), hint)
}

// listen checks the address for metrics: one of this machine alone.
func (d *decoder) listen(t Text) {
	host, _, ok := hostPort(t.S)
	if !ok {
		d.add(SeverityError, t.Pos, "listen", fmt.Sprintf("%q is not an address with a port", t.S),
			"write 127.0.0.1:9470, for instance")
		return
	}
	if ip, err := netip.ParseAddr(host); host != "localhost" && (err != nil || !ip.IsLoopback()) {
		d.add(SeverityError, t.Pos, "listen",
			fmt.Sprintf("%s can be reached from other machines, and there is no password here", t.S),
			"listen on 127.0.0.1 or ::1, and let a proxy do the rest")
	}
}

// hostPort splits an address with a port: host:25, 127.0.0.1:25, [::1]:25.
func hostPort(s string) (host, port string, ok bool) {
	at := strings.LastIndexByte(s, ':')
	if at < 1 {
		return "", "", false
	}
	host, port = s[:at], s[at+1:]
	if inner, bracketed := strings.CutPrefix(host, "["); bracketed {
		host, bracketed = strings.CutSuffix(inner, "]")
		ok = bracketed
	} else {
		ok = !strings.Contains(host, ":")
	}
	number, err := strconv.ParseUint(port, 10, 16)
	return host, port, ok && host != "" && err == nil && number > 0
}
