// Package service has the system start the watcher and keep it running: systemd
// user units on Linux, launchd agents on macOS.
//
// It installs a plain text file that anybody can read; show prints the file
// without installing it. The watcher tells systemd when it is ready and that it
// is alive (sd_notify(3)), so a watcher that hangs is restarted, too.
package service

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"strings"
	"sync"
	"text/template"
	"time"
	"unicode"
)

// Spec is what is to be run.
type Spec struct {
	Name    string   // of the service, without the program's own: kelder
	Program string   // absolute
	Rules   string   // absolute; "" if the machine is lent
	Lend    []string // the options of fleet lend, nil for the watcher of the rules
	Boot    bool     // start at boot, not only at log-in
	Path    string   // PATH of the moment of installing: where programs are looked for
	Day     string   // that moment's date
	// how long running commands may go on when it is asked to end
	StopAfter time.Duration
}

// Title says what the service is, in a few words.
func (s Spec) Title() string {
	if s.Lend != nil {
		return "this machine lent to others"
	}
	return "the rules in " + s.Rules
}

// StopSeconds is how long its end may take.
func (s Spec) StopSeconds() int { return int((s.StopAfter + lastSteps).Seconds()) }

// Args are the words of its command, after the program.
func (s Spec) Args() []string {
	if s.Lend != nil {
		return append([]string{"fleet", "lend"}, s.Lend...)
	}
	return []string{"--config", s.Rules, "watch"}
}

var validName = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`^[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?$`)
})

// ValidName reports whether a name can be a part of the name of a unit and of a file: letters,
// digits and dashes, 63 at most.
func ValidName(name string) bool { return validName().MatchString(name) }

// ErrNoSystem says that there is no system here that starts services.
var ErrNoSystem = errors.New("neither systemd nor launchd is here")

// NameFor makes a service's name from the folder of its rules file.
func NameFor(rules string) string {
	name := strings.Map(func(r rune) rune {
		if unicode.IsLetter(r) && r < 0x80 || unicode.IsDigit(r) && r < 0x80 {
			return unicode.ToLower(r)
		}
		return '-'
	}, filepath.Base(filepath.Dir(rules)))
	if name = strings.Trim(name, "-"); name == "" {
		return "rules"
	}
	return strings.Trim(name[:min(len(name), 63)], "-")
}

// Text returns the file that is installed, and its path.
func Text(s Spec, goos string) (path, text string, err error) {
	switch goos {
	case "linux":
		return unitPath(s.Name), fill(unit, s), nil
	case "darwin":
		return agentPath(s.Name), fill(agent, s), nil
	}
	return "", "", ErrNoSystem
}

func fill(text string, s Spec) string {
	t := template.Must(template.New("").Funcs(template.FuncMap{"unit": quoteUnit, "word": wordUnit,
		"plain": plainUnit, "env": pathUnit,
		"xml": quoteXML, "logs": logFolder}).Parse(text))
	var b strings.Builder
	if err := t.Execute(&b, s); err != nil {
		panic(err) // the templates are in the program
	}
	return b.String()
}

// unit is for a user's own manager, so there is no User=. What commands may
// need is not taken from them: no private /tmp, no hidden home, no seccomp.
const unit = `[Unit]
Description=Still Tide, {{plain .Title}}
After=default.target
StartLimitIntervalSec=300
StartLimitBurst=10

[Service]
Type=notify
NotifyAccess=main
{{- if .Path}}
# The PATH of {{.Day}}, when this was installed: programs that rules name are looked for there.
Environment={{env .Path}}
{{- end}}
ExecStart={{unit .Program}}{{range .Args}} {{word .}}{{end}}
Restart=on-failure
RestartSec=2
# Exit status 2 is an error in the rules, 3 another watcher: a restart would not help.
RestartPreventExitStatus=2 3
WatchdogSec=90
KillMode=mixed
TimeoutStopSec={{.StopSeconds}}
NoNewPrivileges=yes
LockPersonality=yes
RestrictRealtime=yes
RestrictSUIDSGID=yes

[Install]
WantedBy=default.target
`

// quoteUnit quotes a word of ExecStart (systemd.service(5), systemd.syntax(7)).
func quoteUnit(word string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "%", "%%", "$", "$$", "\n", `\n`).Replace(word) + `"`
}

var plainWord = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^[A-Za-z0-9-]+$`) })

// wordUnit quotes a word of ExecStart that is not plain.
func wordUnit(word string) string {
	if plainWord().MatchString(word) {
		return word
	}
	return quoteUnit(word)
}

// pathUnit sets PATH (systemd.exec(5), Environment=).
func pathUnit(path string) string {
	return `"PATH=` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "%", "%%", "\n", `\n`).Replace(path) + `"`
}

// plainUnit is a text in which only the specifiers must be escaped.
func plainUnit(text string) string { return strings.NewReplacer("%", "%%", "\n", " ").Replace(text) }

func unitPath(name string) string {
	return filepath.Join(configFolder(), "systemd", "user", UnitName(name))
}

// UnitName returns the name of the unit.
func UnitName(name string) string { return "stilltide-" + name + ".service" }

func configFolder() string {
	if dir := os.Getenv("XDG_CONFIG_HOME"); filepath.IsAbs(dir) {
		return dir
	}
	return filepath.Join(home(), ".config")
}

func home() string {
	dir, err := os.UserHomeDir()
	if err != nil {
		return "/"
	}
	return dir
}

const agent = `<?xml version="1.0" encoding="UTF-8"?>
<!DOCTYPE plist PUBLIC "-//Apple//DTD PLIST 1.0//EN" "http://www.apple.com/DTDs/PropertyList-1.0.dtd">
<plist version="1.0">
<dict>
	<key>Label</key>
	<string>stilltide.{{xml .Name}}</string>
	<key>ProgramArguments</key>
	<array>
		<string>{{xml .Program}}</string>
{{- range .Args}}
		<string>{{xml .}}</string>
{{- end}}
	</array>
{{- if .Path}}
	<!-- The PATH of {{.Day}}, when this was installed: programs that rules name are looked for there. -->
	<key>EnvironmentVariables</key>
	<dict>
		<key>PATH</key>
		<string>{{xml .Path}}</string>
	</dict>
{{- end}}
	<key>RunAtLoad</key>
	<true/>
	<key>KeepAlive</key>
	<dict>
		<key>SuccessfulExit</key>
		<false/>
	</dict>
	<key>ExitTimeOut</key>
	<integer>{{.StopSeconds}}</integer>
	<key>StandardOutPath</key>
	<string>{{logs}}/stilltide-{{xml .Name}}.log</string>
	<key>StandardErrorPath</key>
	<string>{{logs}}/stilltide-{{xml .Name}}.log</string>
</dict>
</plist>
`

func quoteXML(text string) string {
	return strings.NewReplacer("&", "&amp;", "<", "&lt;", ">", "&gt;", `"`, "&quot;").Replace(text)
}

func logFolder() string { return quoteXML(filepath.Join(home(), "Library", "Logs")) }

func agentPath(name string) string {
	return filepath.Join(home(), "Library", "LaunchAgents", "stilltide."+name+".plist")
}

// Install writes the file and has the system start it now and from now on.
// The returned sentences say what was done.
func Install(s Spec) (done []string, err error) {
	path, text, err := Text(s, runtime.GOOS)
	if err == nil {
		err = available()
	}
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return nil, err
	}
	if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
		return nil, err
	}
	done = append(done, "written: "+path)
	for _, c := range Commands(s, path, runtime.GOOS) {
		if err := run(c); err != nil {
			return done, err
		}
		done = append(done, strings.Join(c, " "))
	}
	return done, nil
}

// available fails where the system's own program is missing, or nobody answers it.
func available() error {
	if runtime.GOOS == "darwin" {
		return nil
	}
	if _, err := exec.LookPath("systemctl"); err != nil {
		return ErrNoSystem
	}
	out, err := exec.Command("systemctl", "--user", "show", "--property=Version").CombinedOutput()
	if err != nil {
		return fmt.Errorf("the user's systemd does not answer: %s", strings.TrimSpace(string(out)))
	}
	return nil
}

// Commands lists what Install runs after it has written the file.
func Commands(s Spec, path, goos string) [][]string {
	if goos == "darwin" {
		return [][]string{{"launchctl", "bootstrap", fmt.Sprintf("gui/%d", os.Getuid()), path}}
	}
	commands := [][]string{{"systemctl", "--user", "daemon-reload"}, {"systemctl", "--user", "enable", "--now",
		UnitName(s.Name)}}
	if s.Boot {
		commands = append(commands, []string{"loginctl", "enable-linger"})
	}
	return commands
}

func run(command []string) error {
	out, err := exec.Command(command[0], command[1:]...).CombinedOutput()
	if err != nil {
		return fmt.Errorf("%s: %s", strings.Join(command, " "), strings.TrimSpace(string(out)+" "+err.Error()))
	}
	return nil
}

// Remove stops the service and removes its file. It is no error if it is not
// running.
func Remove(name string) (done []string, err error) {
	path, _, err := Text(Spec{Name: name}, runtime.GOOS)
	if err != nil {
		return nil, err
	}
	if _, err := os.Stat(path); err != nil {
		return nil, fmt.Errorf("there is no service %s: %s is not there", name, path)
	}
	var commands [][]string
	if runtime.GOOS == "darwin" {
		commands = [][]string{{"launchctl", "bootout", fmt.Sprintf("gui/%d/stilltide.%s", os.Getuid(), name)}}
	} else if available() == nil {
		commands = [][]string{{"systemctl", "--user", "disable", "--now", UnitName(name)}}
	}
	for _, c := range commands {
		if err := run(c); err != nil {
			return done, err
		}
		done = append(done, strings.Join(c, " "))
	}
	if err := os.Remove(path); err != nil {
		return done, err
	}
	if runtime.GOOS == "linux" && available() == nil {
		_ = run([]string{"systemctl", "--user", "daemon-reload"}) // the file is gone anyway
	}
	return append(done, "removed: "+path), nil
}
