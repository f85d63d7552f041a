package notify

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"html"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/godbus/dbus/v5"
	"github.com/wneessen/go-mail"

	"stilltide/internal/core/fill"
	"stilltide/internal/core/notice"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/runner"
)

// newSender makes what sends for a channel.
func newSender(o Options, name string, c rule.Channel) sender {
	switch {
	case c.Desktop:
		return desktop{}
	case c.Webhook.Set():
		return webhook{address: c.Webhook.S, secretEnv: c.Secret.S, source: source(o.Rules)}
	case c.Mail != nil:
		return email{*c.Mail}
	}
	return command{o: o, name: name, channel: c}
}

// source names this machine's rules file, as a file URI (RFC 8089).
func source(rules string) string {
	host, _ := os.Hostname() // without one the URI has no host, which is as valid
	u := url.URL{Scheme: "file", Host: host, Path: filepath.ToSlash(rules)}
	return u.String()
}

// desktop shows a notification, by the freedesktop.org Desktop Notifications
// Specification 1.2.
type desktop struct{}

const (
	notificationService = "org.freedesktop.Notifications"
	notificationPath    = "/org/freedesktop/Notifications"
	maxDesktopLines     = 6
)

func (desktop) send(ctx context.Context, _ string, m notice.Message) error {
	conn, err := dbus.ConnectSessionBus(dbus.WithContext(ctx))
	if err != nil {
		return fmt.Errorf("no desktop session can be reached (DBUS_SESSION_BUS_ADDRESS): %w", err)
	}
	defer conn.Close()
	service := conn.Object(notificationService, notificationPath)
	var abilities []string
	if err := service.CallWithContext(ctx, notificationService+".GetCapabilities",
		0).Store(&abilities); err != nil {
		return fmt.Errorf("no notification service answers: %w", err)
	}
	body := shortened(m.Text)
	if slices.Contains(abilities, "body-markup") {
		body = html.EscapeString(body)
	}
	hints := map[string]dbus.Variant{"urgency": dbus.MakeVariant(byte(1)), "category": dbus.MakeVariant("transfer")}
	if m.Counts[notice.Blocked]+m.Counts[notice.Failed] > 0 {
		hints["category"] = dbus.MakeVariant("transfer.error")
	}
	call := service.CallWithContext(ctx, notificationService+".Notify", 0, "Still Tide", uint32(0), "", m.Title,
		body, []string{}, hints, int32(-1))
	if call.Err != nil {
		return fmt.Errorf("the notification service refused it: %w", call.Err)
	}
	return nil
}

// shortened keeps the lines that a notification has room for.
func shortened(text string) string {
	lines := strings.Split(text, "\n")
	if len(lines) <= maxDesktopLines {
		return text
	}
	return strings.Join(append(lines[:maxDesktopLines-1:maxDesktopLines-1],
		fmt.Sprintf("and %d more lines", len(lines)-maxDesktopLines+1)), "\n")
}

// webhook posts a CloudEvent (specification 1.0, JSON format, structured
// content mode), signed by the Standard Webhooks scheme.
type webhook struct {
	address, secretEnv, source string
}

// cloudEvent is the envelope; time is RFC 3339.
type cloudEvent struct {
	SpecVersion string         `json:"specversion"`
	ID          string         `json:"id"`
	Source      string         `json:"source"`
	Type        string         `json:"type"`
	Time        time.Time      `json:"time"`
	ContentType string         `json:"datacontenttype"`
	Data        notice.Message `json:"data"`
}

// eventType is what a message is, for receivers that sort by it.
func eventType(m notice.Message) string {
	if m.Counts[notice.Heartbeat] > 0 {
		return "stilltide.heartbeat"
	}
	return "stilltide.notice"
}

func (w webhook) send(ctx context.Context, id string, m notice.Message) error {
	body, err := json.Marshal(cloudEvent{SpecVersion: "1.0", ID: id, Source: w.source, Type: eventType(m),
		Time: m.Last, ContentType: "application/json", Data: m})
	if err != nil {
		return err
	}
	body = fill.PlainJSON(body)
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, w.address, bytes.NewReader(body))
	if err != nil {
		return fmt.Errorf("%s is not an address to send to", plan.ShownAddress(w.address))
	}
	req.Header.Set("Content-Type", "application/cloudevents+json; charset=utf-8")
	req.Header.Set("User-Agent", "stilltide")
	if err := w.sign(req, id, body, time.Now()); err != nil {
		return err
	}
	client := http.Client{CheckRedirect: func(*http.Request,
		[]*http.Request) error {
		return http.ErrUseLastResponse
	}}
	res, err := client.Do(req)
	if err != nil {
		var inner *url.Error
		if errors.As(err, &inner) {
			err = inner.Err
		}
		return fmt.Errorf("%s could not be reached: %w", plan.ShownAddress(w.address), err)
	}
	defer res.Body.Close()
	_, _ = io.Copy(io.Discard, io.LimitReader(res.Body, 64<<10)) // so that the connection can be closed cleanly
	if res.StatusCode >= 200 && res.StatusCode < 300 {
		return nil
	}
	err = fmt.Errorf("%s answered %s", plan.ShownAddress(w.address), res.Status)
	if seconds, atoiErr := strconv.Atoi(res.Header.Get("Retry-After")); atoiErr == nil && seconds > 0 {
		return later{err, time.Duration(seconds) * time.Second}
	}
	return err
}

// sign adds the three headers of the Standard Webhooks scheme (version 1.0.0):
// an HMAC-SHA256 over id, time and body.
func (w webhook) sign(req *http.Request, id string, body []byte, now time.Time) error {
	stamp := strconv.FormatInt(now.Unix(), 10)
	req.Header.Set("webhook-id", id)
	req.Header.Set("webhook-timestamp", stamp)
	if w.secretEnv == "" {
		return nil
	}
	secret := os.Getenv(w.secretEnv)
	if secret == "" {
		return fmt.Errorf("the environment variable %s, which holds the secret, is not set", w.secretEnv)
	}
	key, err := base64.StdEncoding.DecodeString(strings.TrimPrefix(secret, "whsec_"))
	if err != nil {
		return fmt.Errorf("the secret in %s is not base64, after whsec_ at its beginning", w.secretEnv)
	}
	mac := hmac.New(sha256.New, key)
	fmt.Fprintf(mac, "%s.%s.%s", id, stamp, body)
	req.Header.Set("webhook-signature", "v1,"+base64.StdEncoding.EncodeToString(mac.Sum(nil)))
	return nil
}

// email sends mail over SMTP (RFC 5321).
type email struct{ rule.Mail }

func (l email) send(ctx context.Context, id string, m notice.Message) error {
	msg := mail.NewMsg()
	if err := msg.From(l.From.S); err != nil {
		return err
	}
	if err := msg.To(texts(l.To)...); err != nil {
		return err
	}
	host, _ := os.Hostname() // the identifier is unique without it
	msg.SetMessageIDWithValue(id + "@" + host)
	msg.SetDateWithValue(m.Last)
	msg.SetGenHeader("Auto-Submitted", "auto-generated") // RFC 3834: no holiday answers
	msg.Subject(subject(m))
	msg.SetBodyString(mail.TypeTextPlain, m.Text+"\n")
	client, err := l.client()
	if err != nil {
		return err
	}
	if err := client.DialAndSendWithContext(ctx, msg); err != nil {
		return fmt.Errorf("the mail server %s did not take it: %w", l.Server.S, err)
	}
	return nil
}

// subject is the title, and the machine that it is about.
func subject(m notice.Message) string {
	if m.Machine == "" {
		return m.Title
	}
	return m.Title + " (" + m.Machine + ")"
}

func (l email) client() (*mail.Client, error) {
	host, port, err := net.SplitHostPort(l.Server.S)
	if err != nil {
		return nil, err
	}
	number, err := net.LookupPort("tcp", port)
	if err != nil {
		return nil, err
	}
	options := []mail.Option{mail.WithPort(number), mail.WithTimeout(oneTry)}
	switch l.Secrecy {
	case rule.StartTLS:
		options = append(options, mail.WithTLSPolicy(mail.TLSMandatory))
	case rule.ImplicitTLS:
		options = append(options, mail.WithSSL())
	case rule.NoTLS:
		options = append(options, mail.WithTLSPolicy(mail.NoTLS))
	default:
		options = append(options, mail.WithTLSPolicy(mail.TLSOpportunistic))
	}
	if l.User.Set() {
		password := os.Getenv(l.Password.S)
		if password == "" {
			return nil, fmt.Errorf("the environment variable %s, which holds the password, is not set",
				l.Password.S)
		}
		options = append(options, mail.WithSMTPAuth(mail.SMTPAuthAutoDiscover), mail.WithUsername(l.User.S),
			mail.WithPassword(password))
	}
	return mail.NewClient(host, options...)
}

// command runs a program of the user's with the text as its standard input.
type command struct {
	o       Options
	name    string
	channel rule.Channel
}

func (c command) send(ctx context.Context, _ string, m notice.Message) error {
	args, err := c.channel.Run.Fill(func(word string) (fill.Value, error) {
		total := 0
		for _, n := range m.Counts {
			total += n
		}
		return fill.Text(map[string]string{"title": m.Title, "text": m.Text, "count": strconv.Itoa(total),
			"channel": c.name}[word]), nil
	})
	if err != nil {
		return err
	}
	if strings.Contains(args[0], "/") && !filepath.IsAbs(args[0]) {
		args[0] = filepath.Join(c.channel.Base, args[0])
	}
	folder, err := os.MkdirTemp("", "stilltide-notice-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(folder)
	input, output := filepath.Join(folder, "text"), filepath.Join(folder, "output")
	if err := os.WriteFile(input, []byte(m.Text+"\n"), 0o600); err != nil {
		return err
	}
	r := runner.New()
	res := r.Run(ctx, runner.Spec{Args: args, Dir: c.channel.Base, Stdin: input, Output: output, Ledger: c.o.State})
	if res.Err != nil {
		return res.Err
	}
	if res.Exit != 0 {
		said, _ := os.ReadFile(output) // the exit code alone says it, too
		return fmt.Errorf("its command ended with exit code %d %s", res.Exit, lastLine(string(said)))
	}
	return nil
}

func lastLine(s string) string {
	lines := strings.Split(strings.TrimSpace(s), "\n")
	if last := lines[len(lines)-1]; last != "" {
		return "(" + last + ")"
	}
	return ""
}
