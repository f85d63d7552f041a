// Package demo is the made-up harbour office at Kelder Sound: its rules, its
// programs and what arrives there, shipped inside the program.
package demo

import (
	"embed"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"
)

//go:embed world
var world embed.FS

// Write lays the office out in a folder: rules, programs, empty arrivals.
func Write(folder string) error {
	for _, sub := range []string{"arrivals/gauges", "bin"} {
		if err := os.MkdirAll(filepath.Join(folder, sub), 0o777); err != nil {
			return err
		}
	}
	return fs.WalkDir(world, "world", func(path string, d fs.DirEntry, err error) error {
		rel := strings.TrimPrefix(path, "world/")
		if err != nil || d.IsDir() || strings.HasPrefix(rel, "data/") {
			return err
		}
		text, err := world.ReadFile(path)
		if err != nil {
			return err
		}
		mode := fs.FileMode(0o644)
		if strings.HasPrefix(rel, "bin/") {
			mode = 0o755
		}
		return os.WriteFile(filepath.Join(folder, rel), text, mode)
	})
}

// Data gives the content of one of the files that arrive.
func Data(name string) []byte {
	text, err := world.ReadFile("world/data/" + name)
	if err != nil {
		panic("demo: no data named " + name) // the names are in the program, too
	}
	return text
}

// Day is when the files of the demo were written, in the office's world.
var Day = time.Date(2031, 4, 2, 17, 30, 0, 0, time.Local)

// Drop delivers a file: whole, by a rename, with the time of the demo's world.
func Drop(data, path string) error {
	part := filepath.Join(filepath.Dir(path), "."+filepath.Base(path)+".part")
	if err := os.WriteFile(part, Data(data), 0o644); err != nil {
		return err
	}
	if err := os.Chtimes(part, Day, Day); err != nil {
		return err
	}
	return os.Rename(part, path)
}
