package main

import (
	"os"

	"github.com/rogpeppe/go-internal/testscript"
	"golang.org/x/sys/unix"
)

func init() { scriptCommands["mapwrite"] = mapWrite }

// mapWrite makes a file by truncate and mapped memory: mapwrite FILE.
func mapWrite(ts *testscript.TestScript, _ bool, args []string) {
	f, err := os.Create(ts.MkAbs(args[0]))
	ts.Check(err)
	ts.Check(f.Truncate(8192))
	mem, err := unix.Mmap(int(f.Fd()), 0, 8192, unix.PROT_READ|unix.PROT_WRITE, unix.MAP_SHARED)
	ts.Check(err)
	for i := range mem {
		mem[i] = byte('a' + i%26)
	}
	ts.Check(unix.Munmap(mem))
	ts.Check(f.Close())
}
