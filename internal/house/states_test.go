package house

import (
	"crypto/sha256"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"stilltide/internal/core/job"
	"stilltide/internal/standing"
)

// docs/states.md and its picture are made from the tables in the code; this test holds
// them against it, and go test ./internal/house -update writes them anew (the picture
// needs Graphviz).
func TestStates(t *testing.T) {
	const page, picture = "../../docs/states.md", "../../docs/states.svg"
	made := statesPage()
	if *update {
		require.NoError(t, os.WriteFile(page, []byte(made), 0o666))
		draw(t, picture)
		return
	}
	text, err := os.ReadFile(page)
	require.NoError(t, err)
	require.Equal(t, made, string(text), "write it anew with: go test ./internal/house -run TestStates -update")
	svg, err := os.ReadFile(picture)
	require.NoError(t, err)
	require.Contains(t, string(svg), madeFrom(graph()),
		"the picture is older than the table; write it anew with: go test ./internal/house -run TestStates -update")
}

// madeFrom marks a picture with what it was made from.
func madeFrom(graph string) string {
	return fmt.Sprintf("<!-- made from %x -->", sha256.Sum256([]byte(graph)))
}

func node(s job.State) string {
	if s == "" {
		return "taken"
	}
	return string(s)
}

func statesPage() string {
	var b strings.Builder
	b.WriteString(`# States

The page is made from the tables in the code; ` + "`go test ./internal/house -run TestStates -update`" + ` writes it anew.

## A job

A file that is not settled yet is no job: it is *settling*. When a rule takes it, a job begins.

![The states of a job](states.svg)

| state | what it is |
|---|---|
`)
	for _, s := range job.States {
		over := ""
		if s.Final() {
			over = " (the job is over)"
		}
		fmt.Fprintf(&b, "| `%s` | %s%s |\n", s, job.Meanings[s], over)
	}
	b.WriteString("\n| from | to | when |\n|---|---|---|\n")
	for _, tr := range job.Transitions {
		from := "`" + string(tr.From) + "`"
		if tr.From == "" {
			from = "a file"
		}
		fmt.Fprintf(&b, "| %s | `%s` | %s |\n", from, tr.To, tr.When)
	}
	b.WriteString("\n## A rule\n\n| state | what it is | what leads there | what ends it |\n|---|---|---|---|\n")
	for _, s := range standing.States {
		fmt.Fprintf(&b, "| `%s` | %s | %s | %s |\n", s.State, s.Means, s.Begins, s.Ends)
	}
	return b.String()
}

// graph is the picture in Graphviz's language. Ways that lead from every open state, or
// from every final one, are drawn once, from the frame around them.
func graph() string {
	var b strings.Builder
	b.WriteString(`digraph states {
rankdir=LR; compound=true; nodesep=0.3; ranksep=0.9; bgcolor="white"; fontname="Helvetica"; fontsize=12;
node [shape=box style="rounded,filled" fillcolor="#eef3f6" color="#55707f" fontname="Helvetica" fontsize=13];
edge [color="#7d8f99" arrowsize=0.7 fontname="Helvetica" fontsize=11 fontcolor="#55707f"];
taken [label="a file\nis taken" shape=plaintext style=""];
subgraph cluster_open { label="open"; color="#c3ced4"; style=rounded;
`)
	for _, s := range job.States {
		if !s.Final() {
			fmt.Fprintf(&b, "%s;\n", s)
		}
	}
	b.WriteString("}\nsubgraph cluster_over { label=\"over\"; color=\"#c3ced4\"; style=rounded;\n")
	for _, s := range job.States {
		fill := `fillcolor="#e4f0e8" color="#3f7a57"`
		if s == job.Failed {
			fill = `fillcolor="#f7e3dd" color="#b0482c"`
		}
		if s.Final() {
			fmt.Fprintf(&b, "%s [%s];\n", s, fill)
		}
	}
	b.WriteString("}\n")
	for _, tr := range job.Transitions {
		switch {
		case tr.To == job.Queued && tr.From.Final(), tr.To == job.Reverted, tr.To == job.Cancelled,
			tr.To == job.Vanished:
		default:
			fmt.Fprintf(&b, "%s -> %s;\n", node(tr.From), tr.To)
		}
	}
	fmt.Fprintf(&b, "settling -> vanished [ltail=cluster_open label=\"gone first\"];\nsettling -> cancelled "+
		"[ltail=cluster_open label=\"by hand\"];\n")
	fmt.Fprintf(&b, "processed -> reverted [label=undo style=dashed constraint=false];\nfailed -> reverted "+
		"[style=dashed constraint=false];\nskipped -> reverted [style=dashed constraint=false];\ncancelled -> "+
		"reverted [style=dashed constraint=false];\n")
	fmt.Fprintf(&b, "processed -> queued [ltail=cluster_over label=retry style=dashed constraint=false];\n}\n")
	return b.String()
}

// draw has Graphviz draw the picture.
func draw(t *testing.T, path string) {
	dot := exec.Command("dot", "-Tsvg")
	dot.Stdin = strings.NewReader(graph())
	svg, err := dot.Output()
	require.NoError(t, err, "drawing the states needs Graphviz")
	require.NoError(t, os.WriteFile(path, append(svg, madeFrom(graph())+"\n"...), 0o666))
}
