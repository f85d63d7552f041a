package wire

import (
	"bufio"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/url"
	"os"
	"runtime"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"
	"github.com/nats-io/nkeys"
)

// Access is how a machine reaches the engine, and shows who it is.
type Access struct {
	Servers []string // nats://HOST:PORT, tls://HOST:PORT
	KeyFile string   // an nkey seed, or a credentials file
	CA      string   // the authority's certificate in PEM, "" for those of the system
	Name    string   // of the connection, for the server's operator
	Inbox   string   // the first word of the subjects on which answers come
}

// Open says, in one sentence, what an access without keys or encryption means; "" if there is
// nothing to say of it.
func (a Access) Open() string {
	if a.encrypted() {
		return ""
	}
	return "the connection to " + strings.Join(a.Servers, ", ") + " is not encrypted; it stays on this machine"
}

func (a Access) encrypted() bool {
	for _, s := range a.Servers {
		if !strings.HasPrefix(s, "tls://") {
			return a.CA != ""
		}
	}
	return true
}

// Check refuses what is not safe.
func (a Access) Check() error {
	for _, s := range a.Servers {
		if !a.encrypted() && !onLoopback(s) {
			return fmt.Errorf("%s is on another machine, and the connection would not be encrypted: name the "+
				"authority's certificate (ca), or write tls://", s)
		}
	}
	return nil
}

// onLoopback reports whether a server is on this machine.
func onLoopback(server string) bool {
	host := hostOf(server)
	if h, _, err := net.SplitHostPort(host); err == nil {
		host = h
	}
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

func hostOf(server string) string {
	if u, err := url.Parse(server); err == nil && u.Host != "" {
		return u.Host
	}
	return server
}

// ReadKey reads a key file. Others must not be able to read it (mode 0600).
func ReadKey(path string) (nkeys.KeyPair, error) {
	info, err := os.Stat(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("the key file %s is not there: stilltide fleet make-key makes one", path)
	}
	if err != nil {
		return nil, fmt.Errorf("the key file cannot be read: %w", err)
	}
	if perm := info.Mode().Perm(); perm&0o077 != 0 && runtime.GOOS != "windows" {
		return nil, fmt.Errorf("the key file %s has mode %04o, so others can read it: chmod 600 it", path, perm)
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, fmt.Errorf("the key file cannot be read: %w", err)
	}
	pair, err := nkeys.ParseDecoratedNKey(text)
	if err != nil {
		if pair, err = nkeys.FromSeed([]byte(strings.TrimSpace(string(text)))); err != nil {
			return nil, fmt.Errorf("%s is no key file: stilltide fleet make-key makes one", path)
		}
	}
	return pair, nil
}

// MakeKey makes a key file that only its owner can read, and returns the public half. What is
// there already stays.
func MakeKey(path string) (public string, err error) {
	pair, err := nkeys.CreateUser()
	if err != nil {
		return "", err
	}
	seed, err := pair.Seed()
	if err != nil {
		return "", err
	}
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if errors.Is(err, fs.ErrExist) {
		return "", fmt.Errorf("%s is there already, and a key is never written over: name another file", path)
	}
	if err != nil {
		return "", fmt.Errorf("the key cannot be written: %w", err)
	}
	_, err = f.Write(append(seed, '\n'))
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		os.Remove(path)
		return "", fmt.Errorf("the key cannot be written: %w", err)
	}
	return pair.PublicKey()
}

// Link is the connection to the engine. It is made, and made again, in the background; the
// zero time of away means that it stands.
type Link struct {
	Access Access
	key    nkeys.KeyPair
	// changed is called, from any goroutine, when the connection is there or lost.
	changed func()
	Said    func(string) // what the server refuses

	Mu   sync.Mutex
	Nc   *nats.Conn
	js   jetstream.JetStream
	away time.Time
	why  string
	up   chan struct{} // closed when the first connection stands
}

func NewLink(a Access, key nkeys.KeyPair, changed func(), said func(string)) *Link {
	return &Link{Access: a, key: key, changed: changed, Said: said, away: time.Now(), up: make(chan struct{})}
}

// firstTry is the time between two tries to reach the engine for the first time.
const firstTry = 500 * time.Millisecond

// KeepUp connects. It ends when the connection stands, which then looks after itself, or with
// the context.
func (l *Link) KeepUp(ctx context.Context) {
	for ctx.Err() == nil {
		nc, err := l.Connect()
		if err == nil {
			js, jsErr := jetstream.New(nc)
			if err = jsErr; err == nil {
				l.Mu.Lock()
				l.Nc, l.js, l.away, l.why = nc, js, time.Time{}, ""
				l.Mu.Unlock()
				close(l.up)
				l.changed()
				return
			}
			nc.Close()
		}
		l.Mu.Lock()
		l.why = InWords(err)
		l.Mu.Unlock()
		l.changed()
		select {
		case <-ctx.Done():
		case <-time.After(firstTry):
		}
	}
}

func (l *Link) Connect() (*nats.Conn, error) {
	opts := []nats.Option{
		nats.Name(l.Access.Name), nats.MaxReconnects(-1), nats.ReconnectWait(250 * time.Millisecond),
		nats.ReconnectJitter(250*time.Millisecond, 250*time.Millisecond), nats.ReconnectBufSize(-1),
		nats.Timeout(3 * time.Second), nats.PingInterval(5 * time.Second), nats.MaxPingsOutstanding(2),
		nats.IgnoreAuthErrorAbort(),
		nats.DisconnectErrHandler(func(_ *nats.Conn, err error) { l.lost(err) }),
		nats.ReconnectHandler(func(*nats.Conn) { l.stands() }),
		nats.ErrorHandler(func(_ *nats.Conn, _ *nats.Subscription, err error) {
			if errors.Is(err, nats.ErrPermissionViolation) {
				l.Said(fmt.Sprintf("the server refuses: %v", err))
			}
		}),
	}
	if l.Access.Inbox != "" {
		opts = append(opts, nats.CustomInboxPrefix("_INBOX_"+l.Access.Inbox))
	}
	if l.Access.encrypted() {
		conf, err := l.trust()
		if err != nil {
			return nil, err
		}
		opts = append(opts, nats.Secure(conf))
	}
	if l.Access.encrypted() || l.asksForKey() {
		own, err := l.own()
		if err != nil {
			return nil, err
		}
		opts = append(opts, own)
	}
	return nats.Connect(strings.Join(l.Access.Servers, ","), opts...)
}

// own shows who this is.
func (l *Link) own() (nats.Option, error) {
	if text, err := os.ReadFile(l.Access.KeyFile); err == nil && strings.Contains(string(text), "USER JWT") {
		return nats.UserCredentials(l.Access.KeyFile), nil
	}
	public, err := l.key.PublicKey()
	return nats.Nkey(public, l.key.Sign), err
}

// asksForKey reports whether one of the servers, which are on this machine, asks who connects:
// one without users says no number to sign.
func (l *Link) asksForKey() bool {
	for _, s := range l.Access.Servers {
		c, err := net.DialTimeout("tcp", hostOf(s), time.Second)
		if err != nil {
			continue
		}
		_ = c.SetReadDeadline(time.Now().Add(time.Second))
		line, err := bufio.NewReader(c).ReadString('\n')
		c.Close()
		var info struct {
			Nonce string `json:"nonce"`
		}
		if err == nil && json.Unmarshal([]byte(strings.TrimPrefix(line, "INFO ")), &info) == nil {
			return info.Nonce != ""
		}
	}
	return false
}

func (l *Link) trust() (*tls.Config, error) {
	conf := &tls.Config{MinVersion: tls.VersionTLS12}
	if l.Access.CA == "" {
		return conf, nil
	}
	text, err := os.ReadFile(l.Access.CA)
	if err != nil {
		return nil, fmt.Errorf("the authority's certificate cannot be read: %w", err)
	}
	conf.RootCAs = x509.NewCertPool()
	if !conf.RootCAs.AppendCertsFromPEM(text) {
		return nil, fmt.Errorf("%s holds no certificate in PEM", l.Access.CA)
	}
	return conf, nil
}

func (l *Link) lost(err error) {
	l.Mu.Lock()
	if l.away.IsZero() {
		l.away = time.Now()
	}
	if l.why = "the connection is lost"; err != nil {
		l.why = InWords(err)
	}
	l.Mu.Unlock()
	l.changed()
}

// InWords says why a connection cannot be had.
func InWords(err error) string {
	switch {
	case errors.Is(err, nats.ErrNoServers):
		return "no server answers there"
	case errors.Is(err, nats.ErrAuthorization), errors.Is(err, nats.ErrAuthExpired):
		return "it does not know this key: is its public half among the server's users?"
	case errors.Is(err, nats.ErrNkeysNotSupported):
		return "it has no users, so it cannot tell who connects"
	case errors.Is(err, io.EOF), errors.Is(err, syscall.ECONNRESET), errors.Is(err, nats.ErrStaleConnection):
		return "the connection is lost"
	}
	return strings.TrimPrefix(err.Error(), "nats: ")
}

func (l *Link) stands() {
	l.Mu.Lock()
	l.away, l.why = time.Time{}, ""
	l.Mu.Unlock()
	l.changed()
}

// IsAway reports since when the engine cannot be reached, and why.
func (l *Link) IsAway() (since time.Time, why string) {
	l.Mu.Lock()
	defer l.Mu.Unlock()
	return l.away, l.why
}

// Conn waits for the first connection.
func (l *Link) Conn(ctx context.Context) (*nats.Conn, jetstream.JetStream, error) {
	select {
	case <-l.up:
		return l.Nc, l.js, nil
	case <-ctx.Done():
		return nil, nil, ctx.Err()
	}
}

// nextFor is how long one request for the next message stands.
const nextFor = 10 * time.Second

// Next waits a while for the next message; nil if there is none.
func (l *Link) Next(ctx context.Context, c jetstream.Consumer) (jetstream.Msg, error) {
	one, end := context.WithTimeout(ctx, nextFor)
	defer end()
	m, err := c.Next(jetstream.FetchContext(one))
	if since, _ := l.IsAway(); err != nil && since.IsZero() && (errors.Is(err, nats.ErrTimeout) ||
		errors.Is(err, context.DeadlineExceeded)) {
		return nil, nil
	}
	return m, err
}

func (l *Link) Close() {
	l.Mu.Lock()
	nc := l.Nc
	l.Mu.Unlock()
	if nc != nil {
		nc.Close()
	}
}

// Pause waits for a time, or for the context's end, which it reports.
func Pause(ctx context.Context, d time.Duration) error {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-t.C:
		return nil
	}
}

// Publish sends what may get lost.
func (l *Link) Publish(subject string, data []byte) {
	l.Mu.Lock()
	nc := l.Nc
	l.Mu.Unlock()
	if nc != nil {
		_ = nc.Publish(subject, data)
	}
}
