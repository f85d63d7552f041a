// Stilltide watches folders and runs work on the files that arrive.
package main

import (
	"os"

	"stilltide/internal/cli"
)

func main() {
	os.Exit(cli.Main(os.Args[1:], os.Stdin, os.Stdout, os.Stderr))
}
