package console

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"os"
	"strings"
	"time"

	"stilltide/internal/ink"
)

// Note prints a sentence of the watcher itself.
func (a *App) Note(format string, args ...any) { a.say(slog.LevelInfo, fmt.Sprintf(format, args...)) }

// Warn prints one that wants attention.
func (a *App) Warn(format string, args ...any) { a.say(slog.LevelWarn, fmt.Sprintf(format, args...)) }

// Alarm prints one that tells of something wrong.
func (a *App) Alarm(format string, args ...any) {
	a.say(slog.LevelError, fmt.Sprintf(format, args...))
}

// say prints a sentence in the way that --log-format asks for.
func (a *App) say(level slog.Level, text string) { a.Board.Print(a.Err, a.sentence(level, text)) }

// sentence is the line, or the lines, in which say prints.
func (a *App) sentence(level slog.Level, text string) string {
	if a.LogFormat == LogJSON {
		var line strings.Builder
		a.LogTo(&line).Log(context.Background(), level, text)
		return line.String()
	}
	stamp := a.Stamp(a.StyleErr)
	text = ink.Block(text, a.Width(a.Err), map[bool]int{true: 0, false: StampWidth}[stamp == ""])
	switch level {
	case slog.LevelWarn:
		text = a.StyleErr.Warn(text)
	case slog.LevelError:
		text = a.StyleErr.Bad(text)
	}
	return stamp + text + "\n"
}

// The ways in which the watcher says what it does (--log-format).
const (
	LogText = "text"
	LogJSON = "json"
)

// LogTo writes records for machines, one JSON object a line (log/slog).
func (a *App) LogTo(w io.Writer) *slog.Logger { return slog.New(slog.NewJSONHandler(w, nil)) }

// StampWidth is how wide a stamp is.
const StampWidth = 10

// Stamp begins a line with the time, unless it goes to the journal, which
// keeps the time itself.
func (a *App) Stamp(st ink.Style) string {
	if os.Getenv("JOURNAL_STREAM") != "" {
		return ""
	}
	return st.Dim(time.Now().Format("15:04:05")) + "  "
}

// Reason is an error of the system without its call and its path, for a sentence that names the file.
func Reason(err error) string {
	var at *fs.PathError
	if errors.As(err, &at) {
		return at.Err.Error()
	}
	return err.Error()
}
