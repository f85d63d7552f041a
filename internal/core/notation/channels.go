package notation

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

	"stilltide/internal/core/diag"
	"stilltide/internal/core/rule"
)

func readEncryption(d *decoder, n ast.Node, v *rule.Encryption) {
	*v = rule.Encryption(choose(d, n, "encryption", "starttls_if_offered", "starttls", "implicit_tls", "none"))
}

func readOccasion(d *decoder, n ast.Node, v *rule.Occasion) {
	*v = rule.Occasion(choose(d, n, "on", "failed", "processed", "caught_up", "overdue", "blocked", "unmatched"))
}

// noticeKeys checks what the head of the file says of notices.
func (d *decoder) noticeKeys(f *rule.File) {
	d.channels = slices.Sorted(maps.Keys(f.Channels))
	for _, name := range d.channels {
		c := f.Channels[name]
		d.channel(name, &c)
		f.Channels[name] = c
	}
	d.notify(f.Notify, rule.OnBlocked, rule.OnUnmatched)
	if h := f.Heartbeat; h != nil {
		d.knownChannel(h.To, h.Pos, "heartbeat")
		if h.Every.Duration < time.Second {
			d.add(diag.SeverityError, h.Pos, "heartbeat", "a heartbeat needs every: with at least 1s",
				"every: 1h, for instance")
		}
	}
	if f.Listen.Set() {
		d.listen(f.Listen)
	}
}

func (d *decoder) channel(name string, c *rule.Channel) {
	c.Base = d.base
	kinds := 0
	for _, set := range []bool{c.Desktop, c.Webhook.Set(), c.Mail != nil, c.Command.Set()} {
		if set {
			kinds++
		}
	}
	bad := func(message, hint string) { d.add(diag.SeverityError, c.Pos, "channel", message, hint) }
	switch {
	case name == rule.LogChannel:
		bad("the channel log is always there and cannot be another", "give this one another name")
	case kinds != 1:
		bad(fmt.Sprintf("the channel %s must say one way to send, and says %d", name, kinds),
			"write one of desktop: true, webhook:, mail: or command:")
	case c.Secret.Set() && !c.Webhook.Set():
		bad("secret_env signs web hooks, and this channel is none", "remove it")
	}
	if c.Webhook.Set() {
		c.Webhook = d.put(rule.Path{Text: c.Webhook}).Text
		if u, err := url.Parse(c.Webhook.S); err != nil || u.Host == "" || u.Scheme != "http" &&
			u.Scheme != "https" {
			d.add(diag.SeverityError, c.Webhook.Pos, "address", fmt.Sprintf("%q is not a web address", c.Webhook.S),
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

func (d *decoder) mail(name string, c *rule.Channel) {
	m := c.Mail
	bad := func(message, hint string) { d.add(diag.SeverityError, c.Pos, "channel", message, hint) }
	if m.Secrecy == "" {
		m.Secrecy = rule.StartTLSIfOffered
	}
	m.Server = d.put(rule.Path{Text: m.Server}).Text
	if _, _, ok := hostPort(m.Server.S); !ok {
		bad(fmt.Sprintf("the channel %s needs a mail server with its port", name),
			"server: 127.0.0.1:25, for instance")
	}
	if !strings.Contains(m.From.S, "@") || len(m.To) == 0 {
		bad(fmt.Sprintf("the channel %s needs from: and to: with e-mail addresses", name), "")
	}
	for _, to := range m.To {
		if !strings.Contains(to.S, "@") {
			d.add(diag.SeverityError, to.Pos, "address", fmt.Sprintf("%q is not an e-mail address", to.S), "")
		}
	}
	if m.User.Set() != m.Password.Set() {
		bad("user and password_env go together", "write both, or neither")
	}
}

// notify checks one notify: and what may be told there.
func (d *decoder) notify(n *rule.Notify, allowed ...rule.Occasion) {
	if n == nil {
		return
	}
	if len(n.On) == 0 || len(n.To) == 0 {
		d.lacks(n.Pos, "notify needs on: and to:",
			"notify: {on: failed, to: log}, for instance")
	}
	for _, o := range n.On {
		if !slices.Contains(allowed, o) {
			hint := "unmatched belongs to no rule: put it into notify: at the top of the file"
			if o != rule.OnUnmatched {
				hint = fmt.Sprintf("%s belongs to a rule: put it into the rule's notify:, or into defaults: for "+
					"all", o)
			}
			d.add(diag.SeverityError, n.Pos, "choice", fmt.Sprintf("notify cannot tell of %q here", o), hint)
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
func (d *decoder) knownChannel(t rule.Text, at rule.Pos, key string) {
	if t.S == rule.LogChannel || slices.Contains(d.channels, t.S) {
		return
	}
	if !t.Set() {
		d.lacks(at, key+" does not say which channel is told", "")
		return
	}
	names := append([]string{rule.LogChannel}, d.channels...)
	hint := "the channels are " + strings.Join(names, ", ")
	if near := diag.Nearest(t.S, names); near != "" {
		hint = "did you mean " + near + "?"
	}
	d.add(diag.SeverityError, t.Pos, "unknown-channel", fmt.Sprintf("there is no channel named %s", t.S), hint)
}

// listen checks the address for metrics: one of this machine alone.
func (d *decoder) listen(t rule.Text) {
	host, _, ok := hostPort(t.S)
	if !ok {
		d.add(diag.SeverityError, t.Pos, "listen", fmt.Sprintf("%q is not an address with a port", t.S),
			"write 127.0.0.1:9470, for instance")
		return
	}
	if ip, err := netip.ParseAddr(host); host != "localhost" && (err != nil || !ip.IsLoopback()) {
		d.add(diag.SeverityError, t.Pos, "listen",
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

// noticeWords are the placeholders of a channel's command.
var noticeWords = []string{"title", "text", "count", "channel"}

// ownWords are filled in the text of a notice.
var ownWords = []string{"kind", "rule", "file", "name", "file_now", "folder", "reason", "job", "count"}
