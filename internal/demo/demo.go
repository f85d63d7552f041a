// Package demo is the made-up harbour office at Kelder Sound: its rules, its
// programs and the files that arrive there, embedded in the program.
package demo

import (
	"archive/zip"
	"bytes"
	"embed"
	"fmt"
	"io/fs"
	"math"
	"os"
	"path/filepath"
	"strings"
	"time"
)

//go:embed world
var world embed.FS

// Write lays the office out in a folder: rules, programs, empty arrivals.
func Write(folder string) error {
	for _, sub := range []string{"arrivals/gauges", "charts", "bin"} {
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

// Data returns the content of one of the files that arrive.
func Data(name string) []byte {
	text, err := world.ReadFile("world/data/" + name)
	if err != nil {
		panic("demo: no data named " + name) // the names are in the program, too
	}
	return text
}

// Day is when the files of the demo were written, in the office's world.
var Day = time.Date(2031, 4, 2, 17, 30, 0, 0, time.Local)

// Bundle returns a zip with a gauge's files of a week.
func Bundle() ([]byte, error) {
	var buf bytes.Buffer
	z := zip.NewWriter(&buf)
	entries, err := world.ReadDir("world/data/bundle")
	if err != nil {
		return nil, err
	}
	for _, e := range entries {
		w, err := z.CreateHeader(&zip.FileHeader{Name: e.Name(), Method: zip.Deflate, Modified: Day})
		if err != nil {
			return nil, err
		}
		if _, err := w.Write(Data("bundle/" + e.Name())); err != nil {
			return nil, err
		}
	}
	err = z.Close()
	return buf.Bytes(), err
}

// Chart returns a scanned chart as a plain PGM picture: an island with depth
// lines around it.
func Chart() []byte {
	const wide, high = 96, 64
	var b bytes.Buffer
	fmt.Fprintf(&b, "P2\n# Kelder Sound, chart 12\n%d %d\n255\n", wide, high)
	for y := range high {
		for x := range wide {
			dx, dy := float64(x-40)/1.6, float64(y-30)
			depth := math.Sqrt(dx*dx+dy*dy) + 3*math.Sin(float64(x)/9)
			grey := 235
			switch {
			case depth < 9:
				grey = 120
			case math.Mod(depth, 8) < 1:
				grey = 60
			}
			fmt.Fprintf(&b, "%d ", grey)
		}
		b.WriteByte('\n')
	}
	return b.Bytes()
}

// Drop delivers a file of the data.
func Drop(data, path string) error { return Deliver(Data(data), path) }

// Deliver delivers a file: whole, by a rename, with the time of the demo's world.
func Deliver(content []byte, path string) error {
	part := filepath.Join(filepath.Dir(path), "."+filepath.Base(path)+".part")
	if err := os.WriteFile(part, content, 0o644); err != nil {
		return err
	}
	if err := os.Chtimes(part, Day, Day); err != nil {
		return err
	}
	return os.Rename(part, path)
}
