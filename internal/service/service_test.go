package service

import (
	"encoding/xml"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"stilltide/internal/machine"
)

var hard = Spec{Name: "kelder", Program: `/opt/still tide/50%/bin/stilltide`,
	Rules: `/srv/harbour "office"/a$b & <c>/stilltide.yaml`, Path: `/opt/50% "odd"/bin:/usr/bin`, Day: "2031-04-02", StopAfter: 10 * time.Minute}

func TestUnit(t *testing.T) {
	t.Setenv("XDG_CONFIG_HOME", "/home/keeper/.config")
	path, text, err := Text(hard, "linux")
	require.NoError(t, err)
	require.Equal(t, "/home/keeper/.config/systemd/user/stilltide-kelder.service", path)
	require.Contains(t, text, `ExecStart="/opt/still tide/50%%/bin/stilltide" --config "/srv/harbour \"office\"/a$$b & <c>/stilltide.yaml" watch`+"\n")
	require.Contains(t, text, "# The PATH of 2031-04-02,")
	require.Contains(t, text, "\nTimeoutStopSec=620\n")
	require.Contains(t, text, `Environment="PATH=/opt/50%% \"odd\"/bin:/usr/bin"`+"\n")
	_, _, err = Text(hard, "plan9")
	require.ErrorIs(t, err, ErrNoSystem)
}

// The system's own verifier has nothing to say against the unit.
func TestTheVerifierIsContent(t *testing.T) {
	machine.Program(t, "systemd-analyze")
	program, err := exec.LookPath("true") // the verifier checks whether it is there
	require.NoError(t, err)
	dir := t.TempDir()
	t.Setenv("XDG_RUNTIME_DIR", dir)
	odd := filepath.Join(dir, `odd "name" $x`)
	require.NoError(t, os.Mkdir(odd, 0o777))
	_, text, err := Text(Spec{Name: "x", Program: program, Rules: filepath.Join(odd, "stilltide.yaml"),
		Path: odd + "/50%:/usr/bin", Day: "2031-04-02"}, "linux")
	require.NoError(t, err)
	unit := filepath.Join(dir, UnitName("x"))
	require.NoError(t, os.WriteFile(unit, []byte(text), 0o666))
	out, err := exec.Command("systemd-analyze", "verify", "--user", "--recursive-errors=no", unit).CombinedOutput()
	require.NoError(t, err, string(out))
	require.NotContains(t, string(out), "x.service", "no warning about it either")
	broken := strings.Replace(text, "Type=notify", "Type=nonsense", 1)
	require.NoError(t, os.WriteFile(unit, []byte(broken), 0o666))
	out, _ = exec.Command("systemd-analyze", "verify", "--user", "--recursive-errors=no", unit).CombinedOutput()
	require.Contains(t, string(out), "nonsense", "the verifier does look")
}

func TestAgent(t *testing.T) {
	_, text, err := Text(hard, "darwin")
	require.NoError(t, err)
	require.Contains(t, text, "<integer>620</integer>", "it has the time that its rules give commands to end")
	var words []string
	d := xml.NewDecoder(strings.NewReader(text))
	inside := ""
	for {
		token, err := d.Token()
		if err != nil {
			require.Equal(t, "EOF", err.Error())
			break
		}
		switch x := token.(type) {
		case xml.StartElement:
			inside = x.Name.Local
		case xml.EndElement:
			inside = ""
		case xml.CharData:
			if inside == "string" {
				words = append(words, string(x))
			}
		}
	}
	require.Equal(t, []string{"stilltide.kelder", hard.Program, "--config", hard.Rules, "watch"}, words[:5])
}

func TestNameFor(t *testing.T) {
	for rules, want := range map[string]string{"/srv/Kelder Sound/stilltide.yaml": "kelder-sound",
		"/stilltide.yaml": "rules", "/a/Ü/x.yaml": "rules"} {
		require.Equal(t, want, NameFor(rules))
	}
}

// A stand-in for the manager's socket gets ready, watchdog and stopping messages.
func TestMessages(t *testing.T) {
	if runtime.GOOS == "windows" {
		t.Skip("there are no such sockets here")
	}
	path := filepath.Join(t.TempDir(), "notify")
	socket, err := net.ListenUnixgram("unixgram", &net.UnixAddr{Name: path, Net: "unixgram"})
	require.NoError(t, err)
	defer socket.Close()
	t.Setenv("NOTIFY_SOCKET", path)
	t.Setenv("WATCHDOG_USEC", "30000")
	m := Connect()
	require.Empty(t, os.Getenv("NOTIFY_SOCKET"), "commands must not get it")
	read := func() string {
		buf := make([]byte, 500)
		require.NoError(t, socket.SetReadDeadline(time.Now().Add(5*time.Second)))
		n, err := socket.Read(buf)
		require.NoError(t, err)
		return string(buf[:n])
	}
	asked := make(chan struct{}, 100)
	m.Ready("3 rules", func() bool { asked <- struct{}{}; return len(asked) <= 2 })
	require.Equal(t, "READY=1\nSTATUS=3 rules", read())
	require.Equal(t, "WATCHDOG=1", read())
	require.Equal(t, "WATCHDOG=1", read())
	for len(asked) < 4 { // stuck: nothing more is said
		time.Sleep(time.Millisecond)
	}
	m.Ending("stopping", 10*time.Minute)
	require.Equal(t, "STATUS=stopping\nEXTEND_TIMEOUT_USEC=620000000", read(), "the manager waits as long")
	m.Stopping()
	require.Equal(t, "STOPPING=1", read())
}
