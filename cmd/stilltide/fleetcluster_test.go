//go:build unix

package main

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"math/big"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"
	"github.com/stretchr/testify/require"

	"stilltide/internal/machine"
	"stilltide/internal/wire"
)

// node is one server of a cluster.
type node struct {
	*exec.Cmd
	start func() *exec.Cmd
}

// startCluster starts three servers from the configuration that the docs give, as processes.
func (y *yard) startCluster() (nodes []*node, addresses []string) {
	program, err := builtNode()
	require.NoError(y.t, err)
	conf, err := filepath.Abs("../../docs/fleet/cluster.conf")
	require.NoError(y.t, err)
	var ports, routes []string
	for range 3 {
		ports = append(ports, fmt.Sprint(freePort(y.t)))
		routes = append(routes, fmt.Sprint(freePort(y.t)))
		addresses = append(addresses, "nats://127.0.0.1:"+ports[len(ports)-1])
	}
	all := "[nats://127.0.0.1:" + strings.Join(routes, ", nats://127.0.0.1:") + "]"
	for i := range 3 {
		start := func() *exec.Cmd {
			c := exec.Command(program, "-c", conf)
			c.Env = append(os.Environ(), "TIDE_NAME=n"+fmt.Sprint(i), "TIDE_LISTEN=127.0.0.1:"+ports[i],
				"TIDE_CLUSTER=127.0.0.1:"+routes[i], "TIDE_ROUTES="+all,
				"TIDE_STORE="+filepath.Join(y.dir, "engine", fmt.Sprint(i)))
			require.NoError(y.t, c.Start())
			y.t.Cleanup(func() { _ = c.Process.Kill(); _ = c.Wait() })
			return c
		}
		nodes = append(nodes, &node{start(), start})
	}
	return nodes, addresses
}

// leads names the server that leads the stream of the jobs.
func leads(t *testing.T, addresses []string) string {
	nc, err := nats.Connect(strings.Join(addresses, ","))
	require.NoError(t, err)
	defer nc.Close()
	js, err := jetstream.New(nc)
	require.NoError(t, err)
	s, err := js.Stream(t.Context(), "TIDE_JOBS")
	require.NoError(t, err)
	require.Equal(t, 3, s.CachedInfo().Config.Replicas)
	return s.CachedInfo().Cluster.Leader
}

// In a cluster the server that leads may be killed, and all of them for a while.
func TestFleetInACluster(t *testing.T) {
	t.Parallel()
	y := &yard{t: t, dir: t.TempDir(), helpers: map[string]*helper{}}
	y.trusted = strings.TrimSpace(run(t, y.dir, "fleet", "make-key", "watcher.nk"))
	run(t, y.dir, "fleet", "make-key", "helper.nk")
	nodes, addresses := y.startCluster()
	y.addresses = addresses
	put(t, y.dir, "stilltide.yaml", fmt.Sprintf(`version: 1
fleet: {server: ["%s"], key_file: watcher.nk, lease: 3s}
defaults: {debounce: 0s}
`, strings.Join(addresses, `", "`))+fmt.Sprintf(placing, filepath.Join(y.dir, "runs"), "0.02"))
	names := y.charts(90)
	y.lend("one")
	y.lend("two")
	y.watch()
	some := func(n int) {
		t.Helper()
		y.until(fmt.Sprint(n, " must be done"), func() bool {
			done, _ := os.ReadDir(filepath.Join(y.dir, "done"))
			return len(done) >= n
		})
	}
	some(20)
	var leader *node
	for i, n := range nodes {
		if leads(t, addresses) == fmt.Sprint("n", i) {
			leader = n
		}
	}
	require.NoError(t, leader.Process.Kill())
	_ = leader.Wait()
	some(45)
	leader.Cmd = leader.start()
	for _, n := range nodes {
		_ = n.Process.Kill()
		_ = n.Wait()
	}
	require.Eventually(t, func() bool { return strings.Contains(run(t, y.dir, "status"), "is away") }, patience,
		200*time.Millisecond)
	for _, n := range nodes {
		n.Cmd = n.start()
	}
	y.allPlaced(names)
	y.watcher.stop()
}

// certificates writes an authority's certificate, and one of a server on this machine.
func certificates(t *testing.T, dir string) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	authority := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "Kelder Sound"},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour), IsCA: true,
		BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign}
	own, err := x509.CreateCertificate(rand.Reader, authority, authority, &key.PublicKey, key)
	require.NoError(t, err)
	serverKey, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	server := &x509.Certificate{SerialNumber: big.NewInt(2), NotBefore: authority.NotBefore,
		NotAfter: authority.NotAfter, IPAddresses: []net.IP{net.ParseIP("127.0.0.1")},
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}
	signed, err := x509.CreateCertificate(rand.Reader, server, authority, &serverKey.PublicKey, key)
	require.NoError(t, err)
	serverDER, err := x509.MarshalECPrivateKey(serverKey)
	require.NoError(t, err)
	for name, block := range map[string]*pem.Block{"ca.pem": {Type: "CERTIFICATE", Bytes: own},
		"server.pem": {Type: "CERTIFICATE", Bytes: signed}, "server.key": {Type: "EC PRIVATE KEY", Bytes: serverDER}} {
		put(t, dir, name, string(pem.EncodeToMemory(block)))
	}
}

// With the configuration that the docs give for an office, all is encrypted, each machine has its
// key, and a helper can neither offer commands nor read what others have made.
func TestFleetRights(t *testing.T) {
	t.Parallel()
	y := &yard{t: t, dir: t.TempDir(), port: freePort(t), helpers: map[string]*helper{}}
	y.trusted = strings.TrimSpace(run(t, y.dir, "fleet", "make-key", "watcher.nk"))
	helperKey := strings.TrimSpace(run(t, y.dir, "fleet", "make-key", "helper.nk"))
	certificates(t, y.dir)
	text, err := os.ReadFile("../../docs/fleet/office.conf")
	require.NoError(t, err)
	put(t, y.dir, "office.conf", strings.Replace(string(text), "0.0.0.0:4222", fmt.Sprint("127.0.0.1:", y.port), 1))
	program, err := builtNode()
	require.NoError(t, err)
	server := exec.Command(program, "-c", "office.conf")
	server.Dir = y.dir
	server.Env = append(os.Environ(), "TIDE_STORE="+filepath.Join(y.dir, "engine"), "TIDE_WATCHER="+y.trusted,
		"TIDE_HELPER="+helperKey)
	require.NoError(t, server.Start())
	t.Cleanup(func() { _ = server.Process.Kill(); _ = server.Wait() })
	put(t, y.dir, "stilltide.yaml", fmt.Sprintf(`version: 1
fleet: {server: "tls://127.0.0.1:%d", key_file: watcher.nk, ca: ca.pem}
defaults: {debounce: 0s}
`, y.port)+fmt.Sprintf(placing, filepath.Join(y.dir, "runs"), "0"))
	put(t, y.dir, "in/large", strings.Repeat("content of large", 40_000))
	y.lend("one", "--ca", "ca.pem")
	y.watch()
	y.comes("done/large")
	require.Contains(t, run(t, y.dir, "fleet"), "1 helper")
	require.NotContains(t, y.said(), "refuses", "each has the rights that it needs")
	require.NotContains(t, y.said(), "not encrypted")

	key, err := wire.ReadKey(filepath.Join(y.dir, "helper.nk"))
	require.NoError(t, err)
	ca, err := os.ReadFile(filepath.Join(y.dir, "ca.pem"))
	require.NoError(t, err)
	pool := x509.NewCertPool()
	require.True(t, pool.AppendCertsFromPEM(ca))
	refused := make(chan error, 16)
	nc, err := nats.Connect(fmt.Sprintf("tls://127.0.0.1:%d", y.port), nats.Nkey(helperKey, key.Sign),
		nats.Secure(&tls.Config{RootCAs: pool}), nats.CustomInboxPrefix("_INBOX_helper"),
		nats.ErrorHandler(func(_ *nats.Conn, _ *nats.Subscription, err error) { refused <- err }))
	require.NoError(t, err)
	defer nc.Close()
	for _, subject := range []string{"tide.job.heavy.x.1-1-0-a", "$JS.API.DIRECT.GET.TIDE_RESULTS.tide.result.x.1",
		"$JS.API.DIRECT.GET.TIDE_FILES.tide.file.x.1.out.1", "$JS.API.STREAM.DELETE.TIDE_JOBS", "tide.cancel.x.1"} {
		require.NoError(t, nc.Publish(subject, []byte("x")))
		require.NoError(t, nc.Flush())
		select {
		case err := <-refused:
			require.ErrorIs(t, err, nats.ErrPermissionViolation, subject)
		case <-time.After(patience):
			t.Fatal(subject + " must be refused")
		}
	}
}

// Debian's own server, which is older, does as well.
func TestFleetWithDebiansServer(t *testing.T) {
	t.Parallel()
	machine.Program(t, "nats-server")
	y := newYard(t, "")
	y.killServer()
	y.program = "nats-server"
	y.startServer()
	y.rules(fmt.Sprintf(placing, filepath.Join(y.dir, "runs"), "0"))
	names := y.charts(20)
	put(t, y.dir, "in/large", strings.Repeat("content of large", 40_000))
	y.lend("one")
	y.watch()
	y.comes("done/large")
	require.NoError(t, os.Remove(filepath.Join(y.dir, "out/large")))
	y.allPlaced(names)
	y.watcher.stop()
	y.engineIsEmpty()
}

// The demo runs with other machines, too, and judges itself.
func TestFleetDemo(t *testing.T) {
	t.Parallel()
	program, err := builtNode()
	require.NoError(t, err)
	dir := t.TempDir()
	out := run(t, dir, "demo", "--fleet", "--server-program", program, "--folder", filepath.Join(dir, "office"))
	require.Contains(t, out, "Everything worked as expected")
	require.Contains(t, out, "on kelder2")
	require.Contains(t, run(t, dir, "demo", "--fleet", "--server-program", "no-such-server"),
		"no-such-server is not there")
}
