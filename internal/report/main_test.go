package report

import (
	"os"
	"testing"

	"stilltide/internal/machine"
)

func TestMain(m *testing.M) { os.Exit(machine.Tests{M: m}.Run()) }
