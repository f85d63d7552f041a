// Package jsonlines is what the commands print with --json: one object a line (JSON Lines),
// each of a type that is written down here with what its fields mean. docs/json.md and the JSON
// Schemas that stilltide schema --of prints are made from the same types, so that none can say
// another thing than what is printed.
//
// Fields may be added, never changed. Times are RFC 3339, durations seconds, sizes bytes. A name
// that is not UTF-8 has U+FFFD where its bytes are none.
package jsonlines

import (
	"bytes"
	"embed"
	"encoding/json"
	"io"
	"reflect"
	"strings"

	"stilltide/internal/core/fill"
	"stilltide/internal/standing"
)

// Command is a command that has --json, and the kinds of lines that it prints, in their order.
type Command struct {
	Name  string // as it is called, without stilltide
	Means string
	Lines []Line
}

// Line is one kind of line.
type Line struct {
	Means string
	Type  reflect.Type
}

// Commands lists all commands that have --json.
var Commands = []Command{
	{"check", "the rules file", []Line{
		{"the file as a whole", reflect.TypeFor[Checked]()}, {"one error or warning", reflect.TypeFor[Finding]()}}},
	{"preview", "what would happen", []Line{{"one file", reflect.TypeFor[Foreseen]()}}},
	{"why", "one file", []Line{
		{"the verdict", reflect.TypeFor[Verdict]()}, {"what one rule makes of it", reflect.TypeFor[Reason]()}}},
	{"rules", "the rules in their order", []Line{{"one rule", reflect.TypeFor[Rule]()}}},
	{"watch", "what became of each job, as it happens", []Line{{"one job", reflect.TypeFor[Job]()}}},
	{"sweep", "what became of each job, as it happens", []Line{{"one job", reflect.TypeFor[Job]()}}},
	{"status", "how it all stands", []Line{
		{"the watcher", reflect.TypeFor[standing.Watcher]()}, {"one rule", reflect.TypeFor[standing.Rule]()}}},
	{"jobs", "the jobs, newest first", []Line{{"one job", reflect.TypeFor[Job]()}}},
	{"jobs show", "everything about one job", []Line{{"the job", reflect.TypeFor[Whole]()}}},
	{"report", "how it has been going", []Line{
		{"one rule, those with the most jobs first", reflect.TypeFor[Figures]()},
		{"failures that are alike, the most frequent first", reflect.TypeFor[Failure]()},
		{"a file that no rule takes now", reflect.TypeFor[Unmatched]()}}},
	{"retry", "what became of each job", []Line{{"one job", reflect.TypeFor[Sent]()}}},
	{"undo", "what became of each job", []Line{{"one job", reflect.TypeFor[Sent]()}}},
	{"cancel", "what became of each job", []Line{{"one job", reflect.TypeFor[Sent]()}}},
	{"dismiss", "what became of each job", []Line{{"one job", reflect.TypeFor[Sent]()}}},
	{"fleet", "the machines that run commands of pools", []Line{{"one helper", reflect.TypeFor[Helper]()}}},
	{"recipes", "the ready-made rules", []Line{{"one recipe", reflect.TypeFor[Recipe]()}}},
	{"version", "the program", []Line{{"its version", reflect.TypeFor[Version]()}}},
}

// Of returns the command of a name.
func Of(name string) (Command, bool) {
	for _, c := range Commands {
		if c.Name == name {
			return c, true
		}
	}
	return Command{}, false
}

//go:embed schemas
var schemas embed.FS

// SchemaFile is the name of the file below schemas that has the command's schema.
func (c Command) SchemaFile() string { return strings.ReplaceAll(c.Name, " ", "-") + ".json" }

// Schema returns the JSON Schema (2020-12) of a line that the command prints. It is made from
// the types above, by a test, so that the program does not do it each time it starts.
func (c Command) Schema() ([]byte, error) { return schemas.ReadFile("schemas/" + c.SchemaFile()) }

// Write writes a value in one line. It may be shown on a terminal.
func Write(to io.Writer, v any) error {
	var line bytes.Buffer
	encoder := json.NewEncoder(&line)
	encoder.SetEscapeHTML(false) // a > in a sentence stays one
	err := encoder.Encode(v)
	if err == nil {
		_, err = to.Write(append(fill.PlainJSON(bytes.TrimSuffix(line.Bytes(), []byte("\n"))), '\n'))
	}
	return err
}
