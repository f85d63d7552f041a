// Package console is what all commands share: the flags that many have, the rules and the
// ledger that they read, and how they print: sentences, tables, JSON, and a line at the bottom
// of a terminal.
package console

import (
	"io"

	"github.com/spf13/cobra"

	"stilltide/internal/core/diag"
	"stilltide/internal/ink"
)

// Version is the program's version.
const Version = "0.1.0"

// App is what all commands share: where they read and print, and the flags that many have.
type App struct {
	In        io.Reader
	Out, Err  io.Writer
	Rules     string // --config
	JSON      bool   // --json
	Wide      bool   // --wide
	LogFormat string // --log-format
	Board     board
	Warnings  diag.List // of the rules that were read last, errors included
	Texts     []byte    // the texts of the rules that were read last
	Style     ink.Style // of standard output
	StyleErr  ink.Style // of standard error
}

// Again is a fresh App for another command that reads and prints where this one does.
func (a *App) Again() *App {
	return &App{In: a.In, Out: a.Out, Err: a.Err, Style: a.Style, StyleErr: a.StyleErr}
}

// JSONFlag adds --json to a command that prints data.
func (a *App) JSONFlag(c *cobra.Command) *cobra.Command {
	c.Flags().BoolVar(&a.JSON, "json", false, "print one JSON object a line")
	return c
}
