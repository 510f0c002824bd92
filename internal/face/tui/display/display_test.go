//go:build unix

package display

import (
	"errors"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/charmbracelet/x/term"
	"github.com/creack/pty"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"omnivigil/internal/output/terminal/screen"
)

// viewer is a terminal with a display on it.
type viewer struct {
	*Display
	t        *testing.T
	mu       sync.Mutex
	terminal *screen.Screen
	got      strings.Builder
	theirs   *os.File
}

func open(t *testing.T) *viewer {
	ours, theirs, err := pty.Open()
	require.NoError(t, err)
	require.NoError(t, pty.Setsize(ours, &pty.Winsize{Cols: 30, Rows: 4}))
	v := &viewer{t: t, terminal: screen.New(30, 4), theirs: theirs}
	v.terminal.Write([]byte("$ omnivigil\r\n"))
	v.Display = Open(theirs, theirs, []string{"TERM=xterm-256color"})
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		buffer := make([]byte, 64<<10)
		for {
			n, err := ours.Read(buffer)
			v.mu.Lock()
			v.got.Write(buffer[:n])
			v.terminal.Write(buffer[:n])
			v.mu.Unlock()
			if err != nil {
				return
			}
		}
	}()
	t.Cleanup(func() {
		theirs.Close()
		<-ended
		ours.Close()
	})
	return v
}

// shows waits until the terminal shows lines.
func (v *viewer) shows(lines ...string) {
	v.t.Helper()
	var rows []string
	require.Eventually(v.t, func() bool {
		v.mu.Lock()
		defer v.mu.Unlock()
		rows = rows[:0]
		for y := range lines {
			var row []byte
			for _, cell := range v.terminal.Row(y) {
				row = v.terminal.AppendText(row, cell)
			}
			rows = append(rows, strings.TrimRight(string(row), " "))
		}
		return strings.Join(rows, "\n") == strings.Join(lines, "\n")
	}, time.Minute, time.Millisecond, "%q", rows)
}

// wrote waits until the terminal has got a text since the last call, and returns everything.
func (v *viewer) wrote(text string) (all string) {
	v.t.Helper()
	require.Eventually(v.t, func() bool {
		v.mu.Lock()
		defer v.mu.Unlock()
		all = v.got.String()
		return strings.Contains(all, text)
	}, time.Minute, time.Millisecond, text)
	v.mu.Lock()
	v.got.Reset()
	v.mu.Unlock()
	return all
}

func frame(content string) tea.View {
	v := tea.NewView(content)
	v.WindowTitle, v.MouseMode = "saltmarsh", tea.MouseModeCellMotion
	return v
}

func TestDisplay(t *testing.T) {
	v := open(t)
	before, err := term.GetState(v.theirs.Fd())
	require.NoError(t, err)
	require.NoError(t, v.Take())
	require.NoError(t, v.Draw(frame("\x1b[31mCURRENT\x1b[m  all run\nfares")))
	v.shows("CURRENT  all run", "fares")
	text := v.wrote("fares")
	for _, sequence := range []string{
		"\x1b[?1049h", "\x1b[?2004h", "\x1b[?1002h", "\x1b[?1006h", "\x1b]2;saltmarsh", "\x1b]11;?",
	} {
		assert.Contains(t, text, sequence)
	}

	// Only what differs is written, and nothing if nothing does.
	require.NoError(t, v.Draw(frame("\x1b[31mCURRENT\x1b[m  all run\nfares")))
	require.NoError(t, v.Draw(frame("\x1b[31mCURRENT\x1b[m  all run\nships")))
	v.shows("CURRENT  all run", "ships")
	text = v.wrote("ip")
	assert.NotContains(t, text, "CURRENT")

	require.NoError(t, v.Lend(func() error {
		v.shows("$ omnivigil")
		state, err := term.GetState(v.theirs.Fd())
		assert.Equal(t, before, state)
		return errors.Join(err, v.Draw(frame("not shown")))
	}))
	require.NoError(t, v.Draw(frame("back")))
	v.shows("back")
	assert.NotContains(t, v.wrote("back"), "not shown")

	cursor := frame("type\nhere")
	cursor.Cursor = tea.NewCursor(2, 1)
	cursor.Cursor.Shape = tea.CursorBar
	require.NoError(t, v.Draw(cursor))
	v.wrote("\x1b[?25h")
	require.Eventually(t, func() bool {
		v.mu.Lock()
		defer v.mu.Unlock()
		x, y := v.terminal.Cursor()
		return x == 2 && y == 1
	}, time.Minute, time.Millisecond)

	require.NoError(t, v.Give())
	v.shows("$ omnivigil", "")
	assert.Contains(t, v.wrote("\x1b[?1049l"), "\x1b[?1002l")
	state, err := term.GetState(v.theirs.Fd())
	require.NoError(t, err)
	assert.Equal(t, before, state)
}

// TestResized draws everything again when the size has changed, or the terminal can do more.
func TestResized(t *testing.T) {
	v := open(t)
	require.NoError(t, v.Take())
	require.NoError(t, v.Draw(frame("one\ntwo")))
	v.wrote("two")
	v.mu.Lock()
	v.terminal.Resize(20, 3)
	v.mu.Unlock()
	v.Hear(tea.WindowSizeMsg{Width: 20, Height: 3})
	require.NoError(t, v.Draw(frame("one\ntwo")))
	v.wrote("two")
	v.Hear(tea.ModeReportMsg{Mode: ansi.ModeSynchronizedOutput, Value: ansi.ModeReset})
	require.NoError(t, v.Draw(frame("one\nthree")))
	assert.Contains(t, v.wrote("hree"), "\x1b[?2026h")
	require.NoError(t, v.Write("\a"))
	v.wrote("\a")
}

func TestAnswersModes(t *testing.T) {
	for env, want := range map[string]bool{
		"TERM=xterm":                                 true,
		"TERM=xterm SSH_TTY=/dev/pts/1":              false,
		"TERM=xterm-kitty SSH_TTY=/dev/pts/1":        true,
		"TERM=xterm TERM_PROGRAM=Apple_Terminal":     false,
		"TERM=xterm WT_SESSION=1 SSH_TTY=/dev/pts/1": true,
	} {
		assert.Equal(t, want, answersModes(func(name string) (string, bool) {
			for _, v := range strings.Fields(env) {
				if value, ok := strings.CutPrefix(v, name+"="); ok {
					return value, true
				}
			}
			return "", false
		}), env)
	}
}

func TestNoTerminal(t *testing.T) {
	file, err := os.CreateTemp(t.TempDir(), "file")
	require.NoError(t, err)
	defer file.Close()
	d := Open(file, file, nil)
	require.ErrorContains(t, d.Take(), "take the terminal")
	require.NoError(t, d.Draw(frame("not shown")))
	require.NoError(t, d.Give())
	info, err := file.Stat()
	require.NoError(t, err)
	assert.Zero(t, info.Size())
}
