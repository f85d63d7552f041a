package main

import (
	"bufio"
	"bytes"
	"encoding/json"
	"io"
	"os"
	"os/exec"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/require"

	"stilltide/internal/jsonlines"
)

// Every line that a command prints with --json is as its schema says, and has no field that the
// schema does not name. Every kind of line comes.
func TestJSONIsAsItsSchemaSays(t *testing.T) {
	t.Parallel()
	dir := longNamed(t)
	put(t, dir, "arrivals/from-the-northern-gauges/bad\xff.held", "1")
	lines := map[string]string{}
	for _, c := range []string{"check", "preview", "why failed/x", "rules", "sweep", "status", "jobs", "jobs show 2",
		"report",
		"retry 2", "cancel 3", "undo 1", "dismiss 2", "recipes", "version"} {
		name := strings.TrimRight(c, " 0123456789")
		lines[strings.TrimSuffix(name, " failed/x")] = only(t, dir, append(strings.Fields(c), "--json")...)
	}
	put(t, dir, "arrivals/from-the-northern-gauges/gauge-NOR_2031-04-05.csv", "1")
	lines["watch"] = firstOfWatch(t, dir)
	y := newYard(t, "rules:\n  - {name: charts, watch: in, pool: heavy, run: \"true\", processed: done}\n")
	y.lend("kelder2")
	y.until("the helper must come", func() bool { return strings.Contains(run(t, y.dir, "fleet"), "kelder2") })
	lines["fleet"] = only(t, y.dir, "fleet", "--json")
	for _, c := range jsonlines.Commands {
		t.Run(c.Name, func(t *testing.T) { checkLines(t, dir, c, lines[c.Name]) })
	}
}

// firstOfWatch returns the first line that watch --json prints.
func firstOfWatch(t *testing.T, dir string) string {
	program, err := built()
	require.NoError(t, err)
	cmd := exec.Command(program, "watch", "--json")
	cmd.Dir = dir
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	line, err := bufio.NewReader(out).ReadString('\n')
	require.NoError(t, err)
	require.NoError(t, cmd.Process.Signal(os.Interrupt))
	_, _ = io.Copy(io.Discard, out)
	require.NoError(t, cmd.Wait())
	return line
}

// only returns what a command prints on standard output.
func only(t *testing.T, dir string, args ...string) string {
	program, err := built()
	require.NoError(t, err)
	cmd := exec.Command(program, args...)
	cmd.Dir = dir
	cmd.Stderr = os.Stderr
	out, _ := cmd.Output()
	return string(out)
}

func checkLines(t *testing.T, dir string, c jsonlines.Command, text string) {
	schema, err := jsonschema.UnmarshalJSON(strings.NewReader(only(t, dir, "schema", "--of", c.Name)))
	require.NoError(t, err)
	kinds := schema.(map[string]any)["anyOf"].([]any)
	require.Len(t, kinds, len(c.Lines))
	compiled := make([]*jsonschema.Schema, len(kinds))
	for i, kind := range kinds {
		closed := kind.(map[string]any)
		closed["additionalProperties"] = false
		compiler := jsonschema.NewCompiler()
		require.NoError(t, compiler.AddResource("line.json", closed))
		compiled[i], err = compiler.Compile("line.json")
		require.NoError(t, err)
	}
	come := make([]bool, len(kinds))
	require.NotEmpty(t, text, "it prints nothing")
	for line := range strings.Lines(text) {
		value, err := jsonschema.UnmarshalJSON(strings.NewReader(line))
		require.NoError(t, err, line)
		require.True(t, json.Valid(bytes.TrimSpace([]byte(line))))
		fits := false
		var wrong error
		for i, s := range compiled {
			if err := s.Validate(value); err == nil {
				fits, come[i] = true, true
			} else {
				wrong = err
			}
		}
		require.True(t, fits, "%s\n%v", line, wrong)
	}
	for i, one := range come {
		require.True(t, one, "no line that is %s came", c.Lines[i].Means)
	}
}
