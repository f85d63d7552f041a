package report

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"stilltide/internal/machine"
)

// probe reports what a browser made of the page: its width beside the window's,
// which drawings are shown, and the colours of text and ground.
const probe = `<script>addEventListener("load", () => {
  const shown = [...document.querySelectorAll("figure div")].filter(d => getComputedStyle(d).display != "none").map(d => d.className);
  const body = getComputedStyle(document.body);
  document.body.setAttribute("data-probe", [document.documentElement.scrollWidth <= innerWidth, shown.length, [...new Set(shown)].join("+"), body.color, body.backgroundColor].join("|"));
})</script>`

// The page has no error that html-validate knows of.
func TestThePageIsValidHTML(t *testing.T) {
	modules := os.Getenv("STILLTIDE_HTML_VALIDATE")
	if modules == "" {
		machine.Lacks(t,
			"STILLTIDE_HTML_VALIDATE names no folder with node_modules/html-validate (npm install html-validate)")
	}
	for name, jobs := range map[string]int{"empty": 0, "full": 500} {
		var page bytes.Buffer
		require.NoError(t, Write(&page, Data{Summary: aWeek(jobs), Rules: "/srv/kelder/<b>&amp;\"/stilltide.yaml",
			Now: time.Now(), State: "all is well.",
			Unmatched: []Unmatched{{"/srv/kelder/</td><script>", "no rule's pattern fits its name"}}}))
		path := filepath.Join(t.TempDir(), name+".html")
		require.NoError(t, os.WriteFile(path, page.Bytes(), 0o666))
		check := exec.Command("node", filepath.Join(modules, "node_modules/html-validate/bin/html-validate.mjs"), path)
		check.Dir = modules
		out, err := check.CombinedOutput()
		require.NoError(t, err, string(out))
	}
}

// The page fits a wide and a narrow window, on light and on dark ground: no
// sideways scrolling, and one drawing of each plot.
func TestThePageInABrowser(t *testing.T) {
	chromium := machine.Program(t, "chromium")
	var page bytes.Buffer
	require.NoError(t, Write(&page, Data{Summary: aWeek(2000), Rules: "/srv/kelder/" +
		strings.Repeat("a-long-folder/", 12) + "stilltide.yaml", Now: time.Now(),
		Unmatched: []Unmatched{{"/srv/kelder/" + strings.Repeat("long", 60), "no rule's pattern fits its name"}}}))
	path := filepath.Join(t.TempDir(), "page.html")
	require.NoError(t, os.WriteFile(path, []byte(strings.Replace(page.String(), "</head>", probe+"</head>", 1)),
		0o666))
	for _, c := range []struct {
		wide   int
		dark   bool
		shown  string
		ground string
	}{{1280, false, "wide", "246, 248, 249"}, {500, true, "slim", "21, 28, 33"}} {
		args := []string{"--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run",
			"--disable-background-networking", "--disable-component-update", "--disable-sync",
			"--user-data-dir=" + t.TempDir(), fmt.Sprintf("--window-size=%d,900", c.wide),
			"--virtual-time-budget=2000", "--dump-dom"}
		if c.dark {
			args = append(args, "--blink-settings=preferredColorScheme=0")
		}
		out, err := exec.Command(chromium, append(args, "file://"+path)...).Output()
		require.NoError(t, err)
		m := regexp.MustCompile(`data-probe="([^"]*)"`).FindStringSubmatch(string(out))
		require.NotNil(t, m, "the browser did not run the probe")
		require.Regexp(t, fmt.Sprintf(`^true\|4\|%s\|rgb\(.*\)\|rgb\(%s\)$`, c.shown, c.ground), m[1])
	}
}
