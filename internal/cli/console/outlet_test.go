package console

import (
	"bytes"
	"context"
	"io"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"
)

// locked is a buffer that a test may look at while it is written.
type locked struct {
	mu   sync.Mutex
	text bytes.Buffer
}

func (l *locked) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.text.Write(p)
}

func (l *locked) String() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.text.String()
}

// shelf is an App whose standard output is not read for now.
func shelf(waits bool) (a *App, read io.Reader, said *locked, ctx context.Context, stop func()) {
	read, write := io.Pipe()
	said = &locked{}
	a = &App{Out: write, Err: said, LogFormat: LogJSON}
	ctx, end := a.AtWork(waits)
	return a, read, said, ctx, func() {
		end()
		write.Close()
	}
}

// What is more than may wait is left out, from the newest on, and how many lines that were is
// said when the others are read.
func TestWhatIsNotReadIsLeftOut(t *testing.T) {
	a, read, said, _, stop := shelf(false)
	line := strings.Repeat("x", 1023) + "\n"
	for range mostUnread/len(line) + 5 {
		a.Board.Print(a.Out, line)
	}
	require.Empty(t, said.String())
	var text []byte
	var reader sync.WaitGroup
	reader.Go(func() { text, _ = io.ReadAll(read) })
	stop()
	reader.Wait()
	require.Len(t, text, mostUnread)
	require.Contains(t, said.String(), "5 lines left out here")
}

// A sweep's lines wait for their reader, until a signal comes.
func TestWhatIsNotReadWaitsForItsReader(t *testing.T) {
	a, read, said, _, stop := shelf(true)
	line := strings.Repeat("x", 1023) + "\n"
	var printer sync.WaitGroup
	printer.Go(func() {
		for range 2 * mostUnread / len(line) {
			a.Board.Print(a.Out, line)
		}
		stop()
	})
	text, err := io.ReadAll(read)
	require.NoError(t, err)
	printer.Wait()
	require.Len(t, text, 2*mostUnread)
	require.Empty(t, said.String())
}

// What is printed after the end, such as why the work ended, is printed at once.
func TestAfterTheEndAllIsPrintedAtOnce(t *testing.T) {
	a, _, said, _, stop := shelf(false)
	stop()
	a.Note("one more thing")
	require.Contains(t, said.String(), "one more thing")
}
