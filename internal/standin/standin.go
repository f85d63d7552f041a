// Package standin holds small stand-ins for the services that notices go to: a
// webhook receiver, a mail server that keeps its messages, and a desktop
// notification service. Tests and the demo use them; they listen on this machine
// only and deliver nothing.
package standin

import (
	"io"
	"net"
	"net/http"
	"sync"
	"time"

	"github.com/emersion/go-smtp"
	"github.com/godbus/dbus/v5"
)

// kept is a list that fills while others look at it.
type kept[T any] struct {
	mu   sync.Mutex
	list []T
}

func (k *kept[T]) add(v T) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.list = append(k.list, v)
}

// All returns what came so far.
func (k *kept[T]) All() []T {
	k.mu.Lock()
	defer k.mu.Unlock()
	return append([]T(nil), k.list...)
}

// Request is a web hook as it came.
type Request struct {
	Header http.Header
	Body   []byte
}

// Webhook receives web hooks and keeps them. Close ends it.
type Webhook struct {
	kept[Request]
	server http.Server
	at     net.Listener

	mu     sync.Mutex
	refuse []int
}

// NewWebhook listens on a free port of this machine.
func NewWebhook() (*Webhook, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	w := &Webhook{at: l}
	w.server = http.Server{Handler: w, ReadHeaderTimeout: 5 * time.Second}
	go w.server.Serve(l) // ends with Close
	return w, nil
}

// Address is where it listens, as a web address.
func (w *Webhook) Address() string { return "http://" + w.at.Addr().String() + "/tide" }

// Refuse has it answer the next requests with these status codes, and not keep them.
func (w *Webhook) Refuse(codes ...int) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.refuse = codes
}

// ServeHTTP takes one web hook.
func (w *Webhook) ServeHTTP(rw http.ResponseWriter, r *http.Request) {
	body, err := io.ReadAll(r.Body)
	if err != nil {
		http.Error(rw, err.Error(), http.StatusBadRequest)
		return
	}
	w.mu.Lock()
	code := 0
	if len(w.refuse) > 0 {
		code, w.refuse = w.refuse[0], w.refuse[1:]
	}
	w.mu.Unlock()
	if code != 0 {
		http.Error(rw, "not now", code)
		return
	}
	w.add(Request{r.Header.Clone(), body})
	rw.WriteHeader(http.StatusNoContent)
}

// Close ends it.
func (w *Webhook) Close() { w.server.Close() }

// Email is a mail as it came.
type Email struct {
	From string
	To   []string
	Text []byte // headers and body
}

// Mail is a mail server that keeps all e-mails. Close ends it.
type Mail struct {
	kept[Email]
	server *smtp.Server
	at     net.Listener
}

// NewMail listens on a free port of this machine.
func NewMail() (*Mail, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	m := &Mail{at: l}
	m.server = smtp.NewServer(m)
	m.server.Domain = "standin.example"
	go m.server.Serve(l) // ends with Close
	return m, nil
}

// Address is host and port.
func (m *Mail) Address() string { return m.at.Addr().String() }

// NewSession begins one connection.
func (m *Mail) NewSession(*smtp.Conn) (smtp.Session, error) { return &session{mail: m}, nil }

// Close ends it.
func (m *Mail) Close() { m.server.Close() }

type session struct {
	mail  *Mail
	email Email
}

func (s *session) Mail(from string, _ *smtp.MailOptions) error {
	s.email = Email{From: from}
	return nil
}

func (s *session) Rcpt(to string, _ *smtp.RcptOptions) error {
	s.email.To = append(s.email.To, to)
	return nil
}

func (s *session) Data(r io.Reader) (err error) {
	if s.email.Text, err = io.ReadAll(r); err == nil {
		s.mail.add(s.email)
	}
	return err
}

func (s *session) Reset()        { s.email = Email{} }
func (s *session) Logout() error { return nil }

// Shown is a notification as a desktop would show it.
type Shown struct {
	App, Summary, Body string
	Hints              map[string]dbus.Variant
}

// Desktop is the notification service of a desktop, on the bus at an address.
type Desktop struct {
	kept[Shown]
	conn *dbus.Conn
}

// NewDesktop takes the service's name on a bus, which must be free.
func NewDesktop(address string) (*Desktop, error) {
	conn, err := dbus.Connect(address)
	if err != nil {
		return nil, err
	}
	d := &Desktop{conn: conn}
	if err := conn.Export(methods{d}, "/org/freedesktop/Notifications",
		"org.freedesktop.Notifications"); err != nil {
		conn.Close()
		return nil, err
	}
	if _, err := conn.RequestName("org.freedesktop.Notifications", dbus.NameFlagDoNotQueue); err != nil {
		conn.Close()
		return nil, err
	}
	return d, nil
}

// Close leaves the bus.
func (d *Desktop) Close() { d.conn.Close() }

// methods are what the Desktop Notifications Specification asks of a service.
type methods struct{ d *Desktop }

func (methods) GetCapabilities() ([]string, *dbus.Error) {
	return []string{"body", "body-markup"}, nil
}

func (m methods) Notify(app string, replaces uint32, icon, summary, body string, actions []string,
	hints map[string]dbus.Variant, timeout int32) (uint32, *dbus.Error) {
	m.d.add(Shown{App: app, Summary: summary, Body: body, Hints: hints})
	return uint32(len(m.d.All())), nil
}
