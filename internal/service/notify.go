package service

import (
	"fmt"
	"net"
	"os"
	"strconv"
	"sync"
	"time"
)

// Manager tells systemd how the watcher is (sd_notify(3)): datagrams to the
// socket that NOTIFY_SOCKET names. Without one it does nothing.
type Manager struct {
	conn net.Conn
	end  chan struct{}
	done sync.WaitGroup
}

// Connect finds the manager that started this program, if one did.
func Connect() *Manager {
	m := &Manager{end: make(chan struct{})}
	path := os.Getenv("NOTIFY_SOCKET")
	if path == "" {
		return m
	}
	os.Unsetenv("NOTIFY_SOCKET") // not for the commands that are run
	if path[0] == '@' {
		path = "\x00" + path[1:] // an abstract name
	}
	if conn, err := net.DialUnix("unixgram", nil, &net.UnixAddr{Name: path, Net: "unixgram"}); err == nil {
		m.conn = conn
	}
	return m
}

func (m *Manager) send(text string) {
	if m.conn != nil {
		_, _ = m.conn.Write([]byte(text)) // a manager that is gone restarts nobody
	}
}

// Ready says that the watching has begun, and from then on, as long as alive
// says so, that the watcher is not stuck. alive is asked from a goroutine that
// Stopping ends.
func (m *Manager) Ready(status string, alive func() bool) {
	if m.conn == nil {
		return
	}
	m.send("READY=1\nSTATUS=" + status)
	micro, err := strconv.ParseInt(os.Getenv("WATCHDOG_USEC"), 10, 64)
	os.Unsetenv("WATCHDOG_USEC")
	if err != nil || micro <= 0 {
		return
	}
	m.done.Go(func() {
		tick := time.NewTicker(time.Duration(micro) * time.Microsecond / 3)
		defer tick.Stop()
		for {
			if alive() {
				m.send("WATCHDOG=1")
			}
			select {
			case <-tick.C:
			case <-m.end:
				return
			}
		}
	})
}

// Ending says that the watcher was asked to end, with a line to show, and how long running commands may go on: the
// manager waits for them, and for what is done after that, whatever its own bound is.
func (m *Manager) Ending(text string, after time.Duration) {
	m.send(fmt.Sprintf("STATUS=%s\nEXTEND_TIMEOUT_USEC=%d", text, (after + lastSteps).Microseconds()))
}

// lastSteps is how long an end takes, at most, once the commands were asked to end, too.
const lastSteps = 20 * time.Second

// Stopping says that the watcher is stopping.
func (m *Manager) Stopping() {
	m.send("STOPPING=1")
	close(m.end)
	m.done.Wait()
}
