package wire

import (
	"context"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"stilltide/internal/standin/engine"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"
	"github.com/nats-io/nkeys"
	"github.com/stretchr/testify/require"
)

// An offer that was changed, or that no trusted watcher has signed, is not opened; nor one
// that was given another place.
func TestOffersAreSigned(t *testing.T) {
	key, err := nkeys.CreateUser()
	require.NoError(t, err)
	public, err := key.PublicKey()
	require.NoError(t, err)
	o := Offer{Version: WireVersion, Ticket: "1-1-0-a", Ledger: "l", Pool: "heavy", Args: []string{"true"}}
	subject := JobSubject("heavy", "l", "1-1-0-a")
	m, err := Sign(subject, o, key)
	require.NoError(t, err)
	_, err = Open(subject, m.Header, m.Data, []string{"other", public})
	require.NoError(t, err)
	_, err = Open(subject, m.Header, m.Data, []string{"other"})
	require.ErrorIs(t, err, errUntrusted)
	_, err = Open(subject, m.Header, []byte(strings.Replace(string(m.Data), "true", "fals", 1)), []string{public})
	require.ErrorIs(t, err, errUntrusted)
	_, err = Open(JobSubject("heavy", "l", "2-1-0-b"), m.Header, m.Data, []string{public})
	require.ErrorIs(t, err, errUntrusted)
	_, err = Open(subject, nats.Header{}, m.Data, []string{public})
	require.ErrorIs(t, err, errUntrusted)
}

// A key file is for its owner alone, and never written over; an engine on another machine must
// be encrypted.
func TestKeysAndAccess(t *testing.T) {
	path := filepath.Join(t.TempDir(), "office.nk")
	public, err := MakeKey(path)
	require.NoError(t, err)
	_, err = MakeKey(path)
	require.ErrorContains(t, err, "never written over")
	pair, err := ReadKey(path)
	require.NoError(t, err)
	again, err := pair.PublicKey()
	require.NoError(t, err)
	require.Equal(t, public, again)
	require.NoError(t, os.Chmod(path, 0o640))
	_, err = ReadKey(path)
	require.ErrorContains(t, err, "chmod 600")
	_, err = ReadKey(path + "x")
	require.ErrorContains(t, err, "make-key makes one")

	for server, wrong := range map[string]string{"nats://127.0.0.1:4222": "", "nats://localhost:4222": "",
		"nats://[::1]:4222": "", "tls://10.0.0.5:4222": "", "nats://10.0.0.5:4222": "would not be encrypted",
		"10.0.0.5:4222": "would not be encrypted"} {
		err := Access{Servers: []string{server}}.Check()
		if wrong == "" {
			require.NoError(t, err, server)
		} else {
			require.ErrorContains(t, err, wrong)
		}
	}
	require.NoError(t, Access{Servers: []string{"nats://10.0.0.5:4222"}, CA: "ca.pem"}.Check())
}

// A file of many parts arrives whole, in bounded memory, also where parts are late.
func TestPartsArrive(t *testing.T) {
	nc, err := nats.Connect(engine.Here(t))
	require.NoError(t, err)
	defer nc.Close()
	js, err := jetstream.New(nc)
	require.NoError(t, err)
	stream, err := js.CreateStream(t.Context(), jetstream.StreamConfig{Name: FileStream,
		Subjects: []string{"tide.file.>"}, MaxMsgsPerSubject: 1, Discard: jetstream.DiscardNew,
		DiscardNewPerSubject: true, AllowDirect: true})
	require.NoError(t, err)
	path := filepath.Join(t.TempDir(), "large")
	text := strings.Repeat("0123456789abcde\n", 5*PartSize/16) + "end"
	require.NoError(t, os.WriteFile(path, []byte(text), 0o640))
	s := &Sender{Js: js, Subject: FileSubject("kelder", "1-1-0-a") + ".in"}
	item, err := s.Item(t.Context(), path, "deep/large")
	require.NoError(t, err)
	require.Equal(t, 6, item.Parts)
	late, err := stream.GetLastMsgForSubject(t.Context(), item.At+".3")
	require.NoError(t, err)
	require.NoError(t, stream.DeleteMsg(t.Context(), late.Sequence))
	go func() { // ends at once
		_, _ = js.Publish(context.Background(), item.At+".3", late.Data)
	}()
	from := &Receiver{Js: js, Prefix: FileSubject("kelder", "1-1-0-a") + ".in.", Most: 1 << 30}
	to := t.TempDir()
	require.NoError(t, from.Into(t.Context(), to, []Item{item}))
	got, err := os.ReadFile(filepath.Join(to, "deep/large"))
	require.NoError(t, err)
	require.True(t, text == string(got))
	from.Most = 1 << 20
	require.ErrorIs(t, from.Into(t.Context(), to, []Item{item}), ErrTooLarge)
}

// What a helper says of itself counts only in its own name, and can do nothing to a terminal; nor
// can its results, which are taken for the ticket that they name alone.
func TestWhatHelpersSayIsSafe(t *testing.T) {
	say := func(subject string, h Here) (Here, bool) {
		data, err := json.Marshal(h)
		require.NoError(t, err)
		return ReadHere(subject, data)
	}
	good := Here{Helper: "kelder2", Pool: "heavy", Workers: 2, Version: "1\x1b[31m",
		Runs: []Running{{Rule: "a\x1b]0;b\a"}}}
	h, ok := say(HereSubject("heavy", "kelder2"), good)
	require.True(t, ok)
	require.NotContains(t, h.Version+h.Runs[0].Rule, "\x1b")
	_, ok = say(HereSubject("heavy", "kelder3"), good)
	require.False(t, ok, "it speaks for another")
	for _, name := range []string{"", "a\x1b[2J", "a b", "a.b", "\u202eabc", strings.Repeat("a", 65)} {
		bad := good
		bad.Helper = name
		_, ok = say(HereSubject("heavy", name), bad)
		require.False(t, ok, name)
	}

	data, err := json.Marshal(Result{Version: WireVersion, Ticket: "1-1-0-a", Helper: "kelder2", Lost: true,
		NotRun: "\x1b[2J" + strings.Repeat("x", 10_000), Signal: "\x1b[2J"})
	require.NoError(t, err)
	r, err := ReadResult(data, "1-1-0-a")
	require.NoError(t, err)
	require.NotContains(t, r.NotRun+r.Signal, "\x1b")
	require.Less(t, len(r.NotRun), 3000)
	require.Equal(t, uint64(1), r.Delivery, "a number that is none of a delivery's is not believed")
	_, err = ReadResult(data, "2-1-0-b")
	require.Error(t, err)
	data, err = json.Marshal(Result{Version: WireVersion, Ticket: "1-1-0-a", Helper: "\x1b[2J"})
	require.NoError(t, err)
	_, err = ReadResult(data, "1-1-0-a")
	require.Error(t, err)
}
