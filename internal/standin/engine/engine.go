// Package engine is a NATS server with JetStream within the process, for tests alone: what imports
// it holds a whole server.
package engine

import (
	"testing"
	"time"

	"github.com/nats-io/nats-server/v2/server"
	"github.com/stretchr/testify/require"
)

// Here starts a server that ends with the test, and returns its address.
func Here(t *testing.T) string {
	s, err := server.NewServer(&server.Options{Host: "127.0.0.1", Port: -1, JetStream: true, StoreDir: t.TempDir(),
		NoSigs: true, NoLog: true})
	require.NoError(t, err)
	s.Start()
	require.True(t, s.ReadyForConnections(20*time.Second))
	t.Cleanup(func() { s.Shutdown(); s.WaitForShutdown() })
	return s.ClientURL()
}
