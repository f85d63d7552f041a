package console

import (
	"bufio"
	"fmt"
	"os"
	"strings"

	"golang.org/x/term"
)

// CanAsk reports whether somebody sees a question and can answer it.
func (a *App) CanAsk() bool {
	in, okIn := a.In.(*os.File)
	out, okOut := a.Out.(*os.File)
	return okIn && okOut && !a.JSON && term.IsTerminal(int(in.Fd())) && term.IsTerminal(int(out.Fd()))
}

// Agreed asks a question that yes or no answers; no is the answer of who says nothing.
func (a *App) Agreed(question string) bool {
	fmt.Fprintf(a.Out, "%s [y/N] ", question)
	answer, _ := bufio.NewReader(a.In).ReadString('\n') // without one it is no
	switch strings.ToLower(strings.TrimSpace(answer)) {
	case "y", "yes":
		return true
	}
	fmt.Fprintln(a.Err, "Nothing was done.")
	return false
}
